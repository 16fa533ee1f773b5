#include "operations/select.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"
#include "operations/root.h"
#include "repo/path_search.h"

namespace hambrel::operations {

namespace {

/// "5.4-1 (cove-workshop, which is not enabled)": versions that this root does not see, and why it does not.
std::vector<std::string> unseen(Root& root, const std::string& name) {
  const Universe& universe = root.universe();
  std::vector<std::string> texts;
  for (const PackageId id : universe.unseen_versions_of(name)) {
    const Candidate& one = universe[id];
    const std::string version = one.package.version.text();
    texts.push_back(!universe.fits(id)
                        ? fmt::format("{} for {}", version, one.package.arch)
                        : fmt::format("{} in {}, which is not enabled", version, one.elsewhere.front().repository));
  }
  return texts;
}

/// Why nothing of a name can be seen, if there is something; the way to have it.
void tell_unseen(Root& root, const std::string& name) {
  const Universe& universe = root.universe();
  const auto ids = universe.unseen_versions_of(name);
  if (ids.empty()) return;
  const std::string all = join(unseen(root, name), ", ");
  for (const PackageId id : ids)
    if (universe.fits(id)) {
      const std::string& repository = universe[id].elsewhere.front().repository;
      throw Error(ErrorCode::Refused, fmt::format("{} exists only in a repository that is not enabled: {}", name, all),
                  {}, "hambrel repo enable " + repository);
    }
  throw Error(ErrorCode::Refused,
              fmt::format("{} is not built for this root's architecture, {}", name,
                          join(root.settings().architectures, " or ")),
              {}, fmt::format("available versions: {}", all));
}

[[noreturn]] void nothing_called(Root& root, const std::string& name) {
  tell_unseen(root, name);
  std::string hint = did_you_mean(name, root.universe().names());
  if (hint.empty()) {
    const bool unusable =
        std::any_of(root.catalog().indexes.begin(), root.catalog().indexes.end(),
                    [](const repo::CachedIndex& one) { return one.repository.enabled && !one.problem.empty(); });
    hint = "`hambrel search WORD` finds packages by what they do";
    if (unusable) hint = "some indexes are missing: run `hambrel refresh`";
    if (root.repositories().empty()) hint = "there are no repositories; add one: hambrel repo add URL";
  }
  throw Error(ErrorCode::Refused, fmt::format("no package is called or provides \"{}\"", name), {}, hint);
}

[[noreturn]] void no_such_version(Root& root, const Spec& spec) {
  const Universe& universe = root.universe();
  std::vector<std::string> there;
  for (const PackageId id : universe.versions_of(spec.constraint.name))
    there.push_back(fmt::format("{}{} ({})", universe.version(id),
                                universe.one_class() ? "" : fmt::format(" for {}", universe.architecture(id)),
                                universe[id].offers.empty() ? "installed" : universe[id].offers.front().title()));
  for (const std::string& one : unseen(root, spec.constraint.name)) there.push_back(one);
  throw Error(ErrorCode::Refused,
              fmt::format("{} is not available{}{}",
                          spec.kind == Spec::Kind::Channel ? spec.constraint.name : spec.constraint.text(),
                          spec.kind == Spec::Kind::Channel ? " in channel " + spec.channel : "",
                          root.options().architecture.empty() ? "" : " for " + root.options().architecture),
              {}, "available versions: " + join(there, ", "));
}

/// Where a path lies when links in its directories are followed: "usr/bin/x" for "bin/x" where bin is a link.
std::string physical_path(os::FileReader& root, const std::string& path) {
  const std::string parent(os::parent_of(path));
  const auto info = root.stat_followed(parent);
  if (!info || info->type != os::FileType::Directory) return path;
  return os::join_path(root.physical(parent), os::name_of(path));
}

std::vector<PackageId> installed_by_path(Root& root, const std::string& path) {
  if (const state::State* state = root.state())
    for (const std::string& one : {path, physical_path(root.files(), path)})
      for (const state::OwnedFile& owner : state->owners_of(one))
        if (const auto id = root.universe().installed_of(owner.package_name)) return {*id};
  return {};
}

/// What the repositories offer that brings a path, best first.
std::vector<PackageId> offered_by_path(Root& root, const std::string& path) {
  const Universe& universe = root.universe();
  std::vector<std::string> unsearched;
  std::vector<PackageId> unseen;
  for (const std::string& one : std::set<std::string>{path, physical_path(root.files(), path)}) {
    const repo::PathSearch search =
        repo::search_paths(root.files(), &root.files(), root.network(), root.repositories(), one, root.observer());
    unsearched = search.unsearched;
    std::vector<PackageId> ids;
    for (const repo::PathHolder& holder : search.holders)
      for (const PackageId id : universe.versions_of(holder.name))
        if (universe.version(id) == holder.version && universe.architecture(id) == holder.arch &&
            std::find(ids.begin(), ids.end(), id) == ids.end())
          (universe.offered(id) ? ids : unseen).push_back(id);
    if (!ids.empty()) return ids;
  }
  const std::string shown = root.files().shown(path);
  if (!unseen.empty())
    throw Error(
        ErrorCode::Refused,
        fmt::format("only {} has it, which is in no followed channel", universe.package(unseen.front()).title()), shown,
        fmt::format("hambrel install {}={}", universe.name(unseen.front()), universe.version(unseen.front())));
  if (!unsearched.empty())
    throw Error(ErrorCode::Refused, "no package has this file, as far as can be searched", shown,
                fmt::format("not searched: {}", join(unsearched, ", ")));
  throw Error(ErrorCode::Refused, "no installed or available package has this file", shown,
              fmt::format("search by a word: {}", "hambrel search " + shell_quoted(os::name_of(path))));
}

}  // namespace

std::vector<Spec> parse_specs(const std::vector<std::string>& words) {
  std::vector<Spec> specs;
  for (const std::string& word : words) specs.push_back(parse_spec(word));
  return specs;
}

namespace {

/// Of several architectures the one that --arch names; without it the root's own, where there is one of it.
void keep_architecture(Root& root, std::vector<PackageId>& ids) {
  const Universe& universe = root.universe();
  if (!root.options().architecture.empty()) {
    std::erase_if(ids, [&](PackageId id) { return universe.architecture(id) != root.options().architecture; });
  } else if (std::any_of(ids.begin(), ids.end(), [&](PackageId id) { return universe.architecture_class(id) == 0; })) {
    std::erase_if(ids, [&](PackageId id) { return universe.architecture_class(id) != 0; });
  }
}

}  // namespace

std::vector<PackageId> select(Root& root, const Spec& spec) {
  const Universe& universe = root.universe();
  std::vector<PackageId> ids;
  switch (spec.kind) {
    case Spec::Kind::File: return {root.file_package(spec.text)};
    case Spec::Kind::Path: {
      const std::string path = os::host_path(spec.text);
      ids = installed_by_path(root, path);
      return ids.empty() ? offered_by_path(root, path) : ids;
    }
    case Spec::Kind::Glob:
      for (const PackageId id : universe.all())
        if (glob_match(spec.text, universe.name(id))) ids.push_back(id);
      if (ids.empty())
        throw Error(ErrorCode::Refused, fmt::format("no package name matches {}", spec.text), {},
                    "`hambrel search WORD` searches more than names");
      return ids;
    case Spec::Kind::Channel:
      for (const PackageId id : universe.versions_of(spec.constraint.name))
        for (const Offer& offer : universe[id].offers)
          if (offer.channel == spec.channel && (ids.empty() || ids.back() != id)) ids.push_back(id);
      break;
    case Spec::Kind::Name:
      for (const PackageId id : universe.versions_of(spec.constraint.name))
        if (version_allowed(spec.constraint.op, spec.constraint.version.text(), universe.version(id)))
          ids.push_back(id);
      // a version that was named may come from any channel; without one, only what is followed is meant
      std::stable_partition(ids.begin(), ids.end(),
                            [&](PackageId id) { return universe.is_installed(id) || universe.offered(id); });
      if (spec.constraint.op == Operator::Any && !ids.empty() &&
          (universe.is_installed(ids[0]) || universe.offered(ids[0])))
        std::erase_if(ids, [&](PackageId id) { return !universe.is_installed(id) && !universe.offered(id); });
      if (ids.empty() && universe.versions_of(spec.constraint.name).empty()) ids = universe.matching(spec.constraint);
      break;
  }
  if (!universe.one_class()) keep_architecture(root, ids);
  if (!ids.empty()) return ids;
  if (!spec.group.empty())
    throw Error(ErrorCode::Refused, fmt::format("no repository has a group called {}", spec.group), {},
                "`hambrel group list` shows them");
  if (universe.providers_of(spec.constraint.name).empty()) nothing_called(root, spec.constraint.name);
  no_such_version(root, spec);
}

solve::Names select_installed(Root& root, const Spec& spec) {
  const Universe& universe = root.universe();
  if (const state::State* const state = root.state(); state != nullptr && spec.kind == Spec::Kind::Name)
    for (const state::StatePackage& one : state->shelved())
      if (one.package.name == spec.constraint.name && !universe.installed_of(one.package.name))
        throw Error(ErrorCode::Refused, fmt::format("{} is shelved", one.package.title()), {},
                    fmt::format("`{}` brings it back", "hambrel unshelve " + one.package.name));
  solve::Names names;
  if (spec.kind == Spec::Kind::Name && universe.providers_of(spec.constraint.name).empty()) {
    std::vector<std::string> installed;
    for (const PackageId id : universe.installed()) installed.push_back(universe.package(id).name);
    const std::string near = did_you_mean(spec.constraint.name, installed);
    throw Error(ErrorCode::Refused, fmt::format("no installed package is called \"{}\"", spec.constraint.name), {},
                near.empty() ? "`hambrel list` shows what is installed" : near);
  }
  if (spec.kind == Spec::Kind::Path && installed_by_path(root, os::host_path(spec.text)).empty())
    throw Error(ErrorCode::Refused, "no installed package has this file", spec.text,
                "`hambrel list` shows what is installed");
  for (const PackageId id : select(root, spec))
    if (universe.is_installed(id)) names.emplace(universe.name(id));
  if (names.empty())
    throw Error(ErrorCode::Refused, fmt::format("{} is not installed", spec.text), {},
                "`hambrel list` shows what is installed");
  return names;
}

}  // namespace hambrel::operations
