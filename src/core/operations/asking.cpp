#include "operations/asking.h"

#include <algorithm>

#include "operations/leftovers.h"
#include "operations/select.h"

namespace hambrel::operations {

namespace {

/// A version that is named exactly, and that nobody offers, may come from the attic or the cache.
bool is_missing(const Universe& universe, const Spec& spec) {
  if (spec.kind != Spec::Kind::Name || spec.constraint.op != Operator::Equal) return false;
  const auto versions = universe.versions_of(spec.constraint.name);
  return std::none_of(versions.begin(), versions.end(), [&](PackageId id) {
    return version_allowed(Operator::Equal, spec.constraint.version.text(), universe.version(id));
  });
}

void ask_to_install(Root& root, const Spec& spec, solve::Request& request) {
  const Universe& universe = root.universe();
  const auto ids = select(root, spec);
  if (spec.kind == Spec::Kind::Channel) request.channels.insert(spec.channel);
  if (spec.kind != Spec::Kind::Glob) {
    request.install.push_back({spec.text, ids});
    return;
  }
  std::map<std::string, std::vector<PackageId>> by_name;
  for (const PackageId id : ids)
    if (universe.is_installed(id) || universe.offered(id)) by_name[std::string(universe.name(id))].push_back(id);
  for (const auto& [name, versions] : by_name) request.install.push_back({name, versions});
}

void add_installed(Root& root, const std::vector<std::string>& words, solve::Names& names) {
  for (const Spec& spec : parse_specs(words)) names.merge(select_installed(root, spec));
}

}  // namespace

void ask_for(Root& root, const Named& named, ChangeRequest& request) {
  const auto install = parse_specs(named.install);
  root.add_files(install);
  if (std::any_of(install.begin(), install.end(), [&](const Spec& one) { return is_missing(root.universe(), one); }))
    root.add_kept();
  for (const Spec& spec : install) ask_to_install(root, spec, request.solve);
  add_installed(root, named.remove, request.solve.remove);
  add_installed(root, named.upgrade, request.solve.upgrade);
  add_installed(root, named.except, request.solve.except);
  add_installed(root, named.release, request.solve.release);
}

std::string with_optional_members(Root& root, const std::string& spec) {
  const std::string with = spec + std::string(kWithOptional);
  return spec.starts_with(kGroup) && !root.universe().versions_of(with).empty() ? with : spec;
}

Removal ask_to_remove(Root& root, const std::vector<std::string>& specs, ChangeRequest request) {
  Removal removal{std::move(request), {}};
  if (removal.request.purge) removal.left = leftovers_of(root);
  removal.request.purge_also = specs;
  solve::Names gone;
  for (const Spec& spec : parse_specs(specs)) {
    const bool left_something = std::any_of(removal.left.begin(), removal.left.end(), [&](const ConfigFile& one) {
      return one.package.package.name == spec.text;
    });
    if (left_something && !root.universe().installed_of(spec.text))
      gone.insert(spec.text);
    else
      removal.request.solve.remove.merge(select_installed(root, spec));
    if (spec.group.empty()) continue;
    // with a group go its optional members, and what came with it and nothing else needs
    if (root.universe().installed_of(spec.text + std::string(kWithOptional)))
      removal.request.solve.remove.insert(spec.text + std::string(kWithOptional));
    removal.request.solve.drop_unneeded = true;
  }
  const bool only_left = removal.request.solve.remove.empty();
  std::erase_if(removal.left,
                [&](const ConfigFile& one) { return !only_left || !gone.contains(one.package.package.name); });
  return removal;
}

MarkRequest ask_to_mark(Root& root, plan::Action action, const std::vector<std::string>& specs) {
  MarkRequest request;
  request.action = action;
  add_installed(root, specs, request.names);
  return request;
}

}  // namespace hambrel::operations
