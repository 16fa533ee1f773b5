#include "operations/groups.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"

namespace hambrel::operations {

namespace {

/// Of a name the installed version, else the best on offer.
std::optional<PackageId> shown_of(const Universe& universe, std::string_view name) {
  if (const auto installed = universe.installed_of(name)) return installed;
  for (const PackageId id : universe.versions_of(name))
    if (universe.offered(id)) return id;
  return std::nullopt;
}

void add_members(const Universe& universe, const Package& package, bool optional, Group& group) {
  const std::string itself = std::string(kGroup) + group.name;
  for (const Relation& relation : package.requires_) {
    GroupMember member;
    member.name = relation.alternatives.front().name;
    member.optional = optional;
    if (member.name == itself) continue;
    if (const auto id = shown_of(universe, member.name)) {
      member.available = true;
      member.installed = universe.is_installed(*id);
      member.size = universe.installed_size(*id);
      member.summary = universe.package(*id).summary;
    }
    group.members.push_back(std::move(member));
  }
}

Group group_of(const Universe& universe, PackageId id) {
  const Candidate& one = universe[id];
  Group group;
  group.name = one.package.name.substr(kGroup.size());
  group.summary = one.package.summary;
  group.description = one.package.description;
  group.version = one.package.version.text();
  group.installed = one.installed.has_value();
  group.origin = one.installed ? one.installed->origin : one.offers.front().title();
  add_members(universe, one.package, false, group);
  if (const auto optional = shown_of(universe, one.package.name + std::string(kWithOptional))) {
    group.with_optional = universe.is_installed(*optional);
    add_members(universe, universe.package(*optional), true, group);
  }
  return group;
}

}  // namespace

std::size_t Group::count_installed() const {
  return static_cast<std::size_t>(
      std::count_if(members.begin(), members.end(), [](const GroupMember& one) { return one.installed; }));
}

std::size_t Group::count(bool optional) const {
  return static_cast<std::size_t>(
      std::count_if(members.begin(), members.end(), [&](const GroupMember& one) { return one.optional == optional; }));
}

std::vector<Group> groups(Root& root) {
  const Universe& universe = root.universe();
  std::vector<Group> all;
  for (const NameId name : universe.names_with_prefix(kGroup)) {
    const std::string text(universe.name(universe.versions_of(name).front()));
    if (text.ends_with(kWithOptional)) continue;
    if (const auto id = shown_of(universe, text)) all.push_back(group_of(universe, *id));
  }
  std::sort(all.begin(), all.end(), [](const Group& a, const Group& b) { return a.name < b.name; });
  return all;
}

Group group_named(Root& root, const std::string& name) {
  const std::string plain = name.starts_with(kGroup) ? name.substr(kGroup.size()) : name;
  if (const auto id = shown_of(root.universe(), std::string(kGroup) + plain)) return group_of(root.universe(), *id);
  std::vector<std::string> names;
  for (const Group& one : groups(root)) names.push_back(one.name);
  const std::string near = did_you_mean(plain, names);
  throw Error(ErrorCode::Refused, fmt::format("no repository has a group called {}", printable(plain)), {},
              near.empty() ? "`hambrel group list` shows them" : near);
}

}  // namespace hambrel::operations
