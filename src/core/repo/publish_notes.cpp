#include "repo/publish_notes.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"
#include "base/toml_table.h"
#include "model/advisory.h"

namespace hambrel::repo {

namespace {

constexpr const char* kAdvisories = "advisories";
constexpr std::uint64_t kMostRecordBytes = 1 << 20;

std::vector<std::string> records(os::FileReader& directory) {
  std::vector<std::string> paths;
  if (directory.stat(kAdvisories))
    for (const std::string& name : directory.list(kAdvisories))
      if (name.ends_with(".json")) paths.push_back(os::join_path(kAdvisories, name));
  std::sort(paths.begin(), paths.end());
  return paths;
}

/// Empty: there are none.
std::string advisories_text(os::FileReader& directory) {
  Json all = Json::array();
  for (const std::string& path : records(directory)) {
    const std::string shown = directory.shown(path);
    Json record = parse_json(directory.read_all(path, kMostRecordBytes), shown);
    const std::string list = "[" + record.dump() + "]";
    const auto read = parse_advisories(list, shown);  // what is wrong with it is told now
    if (read.front().affected.empty())
      throw Error(ErrorCode::Invalid, fmt::format("{} affects no package", read.front().id), shown,
                  fmt::format("`affected` needs a package of the ecosystem \"{}\"", kEcosystem));
    all.push_back(std::move(record));
  }
  return all.empty() ? "" : canonical(all) + "\n";
}

std::string news_text(os::FileReader& directory) {
  if (!directory.stat(kNewsFile)) return {};
  const std::string shown = directory.shown(kNewsFile);
  const toml::table whole = parse_toml(directory.read_all(kNewsFile, kMostRecordBytes), shown);
  TomlTable top(whole, shown, "");
  const toml::node* const list = top.find("news");
  top.done();
  if (list == nullptr) return {};
  if (!list->is_array_of_tables()) top.wrong("news", "written as [[news]] tables", list);
  Json all = Json::array();
  for (const toml::node& item : *list->as_array()) {
    TomlTable table(*item.as_table(), shown, "news");
    const std::string date = table.text("date", true, "a day, YYYY-MM-DD");
    if (!parse_date(date)) table.wrong("date", "a day, YYYY-MM-DD", &item);
    all.push_back({{"date", date}, {"title", table.text("title", true)}, {"text", table.text("text", false)}});
    table.done();
  }
  std::stable_sort(all.begin(), all.end(), [](const Json& a, const Json& b) { return a["date"] > b["date"]; });
  return all.empty() ? "" : canonical(all) + "\n";
}

bool add(Contents& contents, std::optional<trust::Pointer>& pointer, const std::optional<trust::Pointer>& before,
         std::uint64_t version, std::string path, std::string text) {
  pointer.reset();
  if (text.empty()) return before.has_value();
  if (before && before->digest == sha256(text)) {
    pointer = before;
    return false;
  }
  pointer = trust::Pointer{std::move(path), version, text.size(), sha256(text)};
  contents.files.push_back({pointer->path, std::move(text)});
  return true;
}

}  // namespace

bool add_notes(os::FileReader& directory, const std::optional<Documents>& served, std::uint64_t version,
               const std::string& recipes, Contents& contents) {
  const trust::Indexes none;
  const trust::Indexes& before = served ? served->indexes : none;
  const bool advisories = add(contents, contents.indexes.advisories, before.advisories, version,
                              trust::advisories_path(version), advisories_text(directory));
  const bool news =
      add(contents, contents.indexes.news, before.news, version, trust::news_path(version), news_text(directory));
  const bool built =
      add(contents, contents.indexes.recipes, before.recipes, version, trust::recipes_path(version), recipes);
  return advisories || news || built;
}

std::vector<std::string> note_files(os::FileReader& directory) {
  std::vector<std::string> paths = records(directory);
  if (directory.stat(kNewsFile)) paths.emplace_back(kNewsFile);
  return paths;
}

}  // namespace hambrel::repo
