#include "repo/publish_groups.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "archive/package_reader.h"
#include "archive/package_writer.h"
#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "base/toml_table.h"
#include "repo/index.h"

namespace hambrel::repo {

namespace {

constexpr const char* kGroups = "groups.toml";
constexpr const char* kNoFiles = ".publish/no-files";  // what a group's package is made from: an empty directory

/// No package is called so.
bool is_group_directory(std::string_view name) { return name.starts_with(package_directory(kGroup)); }

struct Group {
  Package package;
  std::vector<Relation> optional;
  std::string at;
};

Relation member_of(const std::string& text, const std::string& at, const std::set<std::string>& known) {
  Relation relation;
  relation.alternatives.push_back(parse_constraint(text, at));
  const std::string& name = relation.alternatives.front().name;
  if (!known.contains(name)) {
    const std::string near = did_you_mean(name, {known.begin(), known.end()});
    throw Error(ErrorCode::Invalid, fmt::format("{} is not in this repository", name), at,
                near.empty() ? "fix this line, or publish the package" : near);
  }
  return relation;
}

std::vector<Group> read_groups(os::FileReader& directory, std::set<std::string> known) {
  std::vector<Group> groups;
  if (!directory.stat(kGroups)) return groups;
  const std::string shown = directory.shown(kGroups);
  const toml::table whole = parse_toml(directory.read_all(kGroups, 1 << 20), shown);
  TomlTable top(whole, shown, "");
  const toml::node* const list = top.find("group");
  top.done();
  if (list == nullptr) return groups;
  if (!list->is_array_of_tables()) top.wrong("group", "written as [[group]] tables", list);
  for (const toml::node& item : *list->as_array())
    if (const auto name = item.as_table()->get_as<std::string>("name")) known.insert(std::string(kGroup) + name->get());
  for (const toml::node& item : *list->as_array()) {
    TomlTable table(*item.as_table(), shown, "group");
    Group group;
    const std::string name = table.text("name", true, "the name of a group");
    if (!is_package_name(name) || name.ends_with(kWithOptional))
      table.wrong("name", "lower-case letters, digits and + . _ -", table.find("name"));
    group.at = table.at(table.find("name"));
    group.package.name = std::string(kGroup) + name;
    group.package.arch = kIndependent;
    group.package.category = "group";
    group.package.summary = table.text("summary", true, "what the group is, in a few words");
    group.package.description = table.text("description", false);
    for (const auto& [text, at] : table.texts("members")) group.package.requires_.push_back(member_of(text, at, known));
    for (const auto& [text, at] : table.texts("optional")) group.optional.push_back(member_of(text, at, known));
    table.done();
    if (group.package.requires_.empty() && group.optional.empty())
      throw Error(ErrorCode::Invalid, fmt::format("{} has no members", group.package.name), group.at,
                  "add members = [\"NAME\", ...]");
    groups.push_back(std::move(group));
  }
  return groups;
}

bool says_the_same(const Package& a, const Package& b) {
  const auto texts = [](const std::vector<Relation>& relations) {
    std::vector<std::string> all;
    for (const Relation& one : relations) all.push_back(one.text());
    return all;
  };
  return a.summary == b.summary && a.description == b.description && texts(a.requires_) == texts(b.requires_);
}

/// The newest package file of a group, and its number; 0: there is none.
std::pair<std::uint64_t, std::optional<Package>> newest_of(os::FileSystem& directory, const std::string& name) {
  const std::string below = "packages/" + package_directory(name);
  std::pair<std::uint64_t, std::optional<Package>> newest{0, std::nullopt};
  if (!directory.stat(below)) return newest;
  for (const std::string& file : directory.list(below)) {
    const auto number = parse_number(file.substr(0, file.find('-')));
    if (!number || *number <= newest.first || !file.ends_with(".hambrel")) continue;
    const std::string path = os::join_path(below, file);
    newest = {*number, archive::PackageReader(directory.open(path), directory.shown(path)).manifest()};
  }
  return newest;
}

void write_group(os::FileSystem& directory, Package package, std::set<std::string>& made) {
  made.insert(package.name);
  const auto [number, before] = newest_of(directory, package.name);
  if (before && says_the_same(*before, package)) return;
  package.version = Version::parse(fmt::format("{}-1", number + 1)).value();
  HAMBREL_ASSERT(is_group_directory(package_directory(package.name)), "a group is kept among groups");
  const std::string path = package_path(package), part = path + ".part";
  directory.make_directories(os::parent_of(path));
  if (directory.stat(part)) directory.remove_file(part);
  const auto file = directory.create(part, 0644);
  Observer silent;
  PackageSource source;
  source.package = std::move(package);
  archive::write_package(directory, kNoFiles, source, *file, {}, silent);
  file->sync();
  file->close();
  directory.rename(part, path);
}

}  // namespace

void make_groups(os::FileSystem& directory) {
  std::set<std::string> known, made;
  const bool has_packages = directory.stat_followed("packages").has_value();
  if (has_packages)
    for (const std::string& name : directory.list("packages"))
      if (!is_group_directory(name)) known.insert(name);
  const std::vector<Group> groups = read_groups(directory, known);
  if (!groups.empty()) directory.make_directories(kNoFiles);
  for (const Group& group : groups) {
    if (made.contains(group.package.name))
      throw Error(ErrorCode::Invalid, fmt::format("{} is there twice", group.package.name), group.at, "delete one");
    write_group(directory, group.package, made);
    if (group.optional.empty()) continue;
    Package with_optional = group.package;
    with_optional.name += kWithOptional;
    with_optional.summary += ", with optional members";
    with_optional.requires_ = group.optional;
    Relation base;
    base.alternatives.emplace_back().name = group.package.name;
    with_optional.requires_.insert(with_optional.requires_.begin(), base);
    write_group(directory, std::move(with_optional), made);
  }
  if (!has_packages) return;
  std::set<std::string> directories;
  for (const std::string& name : made) directories.insert(package_directory(name));
  for (const std::string& name : directory.list("packages"))
    if (is_group_directory(name) && !directories.contains(name)) directory.remove_tree("packages/" + name);
}

}  // namespace hambrel::repo
