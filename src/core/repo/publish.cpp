#include "repo/publish.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "archive/frame_codec.h"
#include "archive/package_reader.h"
#include "base/error.h"
#include "base/toml_table.h"
#include "repo/index.h"
#include "repo/path_index.h"
#include "trust/documents.h"

namespace hambrel::repo {

namespace {

constexpr int kIndexLevel = 15;
constexpr std::uint64_t kKeptIndexes = 3;  // clients in the middle of a refresh still find the one they read of

/// repository.toml: [[channel]] name = "beta", packages = ["lampdesk >= 6"]; what no rule names is in "stable".
struct ChannelRule {
  std::string channel;
  std::vector<Constraint> packages;
};

std::vector<ChannelRule> read_rules(os::FileReader& directory) {
  std::vector<ChannelRule> rules;
  if (!directory.stat("repository.toml")) return rules;
  const std::string shown = directory.shown("repository.toml");
  const toml::table whole = parse_toml(directory.read_all("repository.toml", 1 << 20), shown);
  TomlTable top(whole, shown, "");
  if (const toml::node* list = top.find("channel"); list != nullptr) {
    if (!list->is_array_of_tables()) top.wrong("channel", "written as [[channel]] tables", list);
    for (const toml::node& item : *list->as_array()) {
      TomlTable table(*item.as_table(), shown, "channel");
      ChannelRule rule;
      rule.channel = table.text("name", true, "the name of a channel");
      if (!is_package_name(rule.channel))
        table.wrong("name", "lower-case letters, digits and + . _ -", table.find("name"));
      for (const auto& [text, at] : table.texts("packages")) rule.packages.push_back(parse_constraint(text, at));
      table.done();
      rules.push_back(std::move(rule));
    }
  }
  top.done();
  return rules;
}

std::string channel_of(const Package& package, const std::vector<ChannelRule>& rules) {
  for (const ChannelRule& rule : rules)
    for (const Constraint& one : rule.packages)
      if (one.name == package.name && one.allows(package.version)) return rule.channel;
  return "stable";
}

IndexLine describe(os::FileSystem& directory, const std::string& path, const std::vector<ChannelRule>& rules,
                   PathIndexWriter& paths) {
  const std::string shown = directory.shown(path);
  const archive::PackageReader reader(directory.open(path), shown);
  reader.verify_all();
  IndexLine line;
  line.package = reader.manifest();
  if (package_path(line.package) != path)
    throw Error(ErrorCode::Invalid,
                fmt::format("contains {} for {}, which belongs elsewhere", line.package.title(), line.package.arch),
                shown, fmt::format("move it to {}", directory.shown(package_path(line.package))));
  line.channel = channel_of(line.package, rules);
  line.size = reader.file_size();
  line.digest = directory.digest(path);
  line.table_offset = reader.footer().table_offset;
  line.table_size = reader.footer().table_size;
  line.table_digest = reader.footer().table_digest;
  std::vector<std::string> brought;
  for (const archive::Entry& entry : reader.table().entries)
    if (entry.type != EntryType::Directory) brought.push_back(entry.path);
  paths.add(line.package, std::move(brought));
  return line;
}

std::vector<std::string> package_files(os::FileSystem& directory) {
  const auto top = directory.stat_followed("packages");
  for (const std::string& name : directory.list(""))
    if (name.ends_with(".hambrel"))
      throw Error(ErrorCode::Invalid, "is outside packages/, where it would not be found", directory.shown(name),
                  "put package files at packages/NAME/VERSION.ARCH.hambrel, then publish again");
  if (!top || top->type != os::FileType::Directory)
    throw Error(ErrorCode::Invalid, "the directory packages/ is missing", directory.shown(""),
                "put package files at packages/NAME/VERSION.ARCH.hambrel, then publish again");
  std::vector<std::string> files;
  for (const std::string& name : directory.list("packages")) {
    const std::string below = os::join_path("packages", name);
    const auto info = directory.stat_followed(below);
    if (name.ends_with(".hambrel"))
      throw Error(ErrorCode::Invalid, "is not in a package's directory, so no package name leads to it",
                  directory.shown(below),
                  "put package files at packages/NAME/VERSION.ARCH.hambrel, as `hambrel pack` names them");
    if (!info || info->type != os::FileType::Directory) continue;
    for (const std::string& file : directory.list(below))
      if (file.ends_with(".hambrel")) files.push_back(os::join_path(below, file));
  }
  return files;
}

void drop_old(os::FileSystem& directory, std::uint64_t version) {
  for (std::uint64_t old = version > kKeptIndexes ? version - kKeptIndexes : 0; old > 0; --old) {
    const std::string index = trust::index_path(old);
    if (!directory.stat(index)) break;
    directory.remove_file(index);
    const std::string paths = trust::paths_path(old);
    if (directory.stat(paths)) directory.remove_file(paths);
    for (const char* kind : {"snapshot", "targets"}) {
      const std::string path = fmt::format("trust/{}.{}.json", old, kind);
      if (directory.stat(path)) directory.remove_file(path);
    }
  }
}

}  // namespace

Published publish(os::FileSystem& directory, std::int64_t now, Observer& observer) {
  const auto rules = read_rules(directory);
  const auto files = package_files(directory);
  std::vector<IndexLine> lines;
  std::set<std::string> channels;
  PathIndexWriter path_writer;
  observer.begin("reading packages", files.size(), Observer::Unit::Items);
  for (const std::string& path : files) {
    lines.push_back(describe(directory, path, rules, path_writer));
    channels.insert(lines.back().channel);
    observer.progress(lines.size());
  }
  observer.end();

  Published published;
  published.packages = lines.size();
  published.channels.assign(channels.begin(), channels.end());
  const std::string content = archive::compress_frame(index_text(lines), kIndexLevel);
  const std::string path_content = path_writer.finish();
  trust::Pointer index{"", 0, content.size(), sha256(content)}, paths{"", 0, path_content.size(), sha256(path_content)};
  if (directory.stat(trust::kTimestampPath)) {
    const auto load = [&](const std::string& path, std::uint64_t limit) { return directory.read_all(path, limit); };
    const trust::Pointer snapshot = trust::read_pointer(load(trust::kTimestampPath, trust::kMostTimestampBytes),
                                                        "timestamp", directory.shown(trust::kTimestampPath));
    const trust::Pointer targets =
        trust::read_pointer(load(snapshot.path, trust::kMostMetadataBytes), "snapshot", directory.shown(snapshot.path));
    const trust::Indexes last =
        trust::read_indexes(load(targets.path, trust::kMostMetadataBytes), directory.shown(targets.path));
    published.version = last.full.version;
    const auto is_there = [&](const trust::Pointer& before, const trust::Pointer& now_made) {
      return before.digest == now_made.digest && before.length == now_made.length && directory.stat(before.path);
    };
    if (is_there(last.full, index) && last.paths && is_there(*last.paths, paths)) return published;
  }
  published.changed = true;
  ++published.version;
  index.path = trust::index_path(published.version);
  paths.path = trust::paths_path(published.version);
  const trust::Metadata made = trust::make_metadata(published.version, {index, paths}, now);
  directory.make_directories("index");
  directory.make_directories("trust");
  directory.replace_file(index.path, content, 0644);
  directory.replace_file(paths.path, path_content, 0644);
  directory.replace_file(made.targets_path, made.targets, 0644);
  directory.replace_file(made.snapshot_path, made.snapshot, 0644);
  directory.replace_file(trust::kTimestampPath, made.timestamp, 0644);
  drop_old(directory, published.version);
  return published;
}

}  // namespace hambrel::repo
