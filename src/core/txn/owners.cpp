#include "txn/owners.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"

namespace hambrel::txn {

namespace {

constexpr std::uint64_t kMostUserBytes = 16 << 20;

std::map<std::string, std::uint32_t> read_names(os::FileReader& root, const char* path) {
  std::map<std::string, std::uint32_t> names{{"root", 0}};
  const auto info = root.stat_followed(path);
  if (!info || info->type != os::FileType::Regular) return names;
  const std::string text = root.read_all(path, kMostUserBytes);
  for (const std::string_view line : split(text, '\n')) {
    const auto parts = split(line, ':');
    const auto number = parts.size() > 2 ? parse_number(parts[2]) : std::nullopt;
    if (number && *number < UINT32_MAX) names.emplace(parts[0], static_cast<std::uint32_t>(*number));
  }
  return names;
}

using Names = std::map<std::string, std::uint32_t>;

std::optional<std::uint32_t> find_number(const Names& names, const std::string& name) {
  if (const auto found = names.find(name); found != names.end()) return found->second;
  if (const auto number = parse_number(name); number && *number < UINT32_MAX)
    return static_cast<std::uint32_t>(*number);
  return std::nullopt;
}

std::uint32_t look_up(const Names& names, const std::string& name, const char* kind, const FileEntry& entry,
                      const std::string& package) {
  if (const auto number = find_number(names, name)) return *number;
  throw Error(ErrorCode::Refused,
              fmt::format("{} needs the {} \"{}\", which does not exist in this root", package, kind, printable(name)),
              "/" + entry.path, fmt::format("create the {} in the root first, then run the command again", kind));
}

}  // namespace

Owners::Owners(os::FileReader& root, const Names& users, const Names& groups) : users_(users), groups_(groups) {
  users_.merge(read_names(root, "etc/passwd"));
  groups_.merge(read_names(root, "etc/group"));
}

std::optional<Owners::Numbers> Owners::find(const FileEntry& entry) const {
  const auto uid = find_number(users_, entry.user), gid = find_number(groups_, entry.group);
  return uid && gid ? std::optional(Numbers{*uid, *gid}) : std::nullopt;
}

Owners::Numbers Owners::of(const FileEntry& entry, const std::string& package) const {
  return {look_up(users_, entry.user, "user", entry, package), look_up(groups_, entry.group, "group", entry, package)};
}

}  // namespace hambrel::txn
