#include "operations/looking.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/parallel.h"
#include "base/text.h"
#include "operations/select.h"
#include "repo/path_search.h"

namespace hambrel::operations {

namespace {

PackageId best_of(Root& root, const Spec& spec, const std::vector<PackageId>& ids) {
  const Universe& universe = root.universe();
  const auto installed = std::find_if(ids.begin(), ids.end(), [&](PackageId id) { return universe.is_installed(id); });
  return installed == ids.end() || spec.kind == Spec::Kind::File ? ids.front() : *installed;
}

ChangeRequest request_for(Root& root, const Spec& spec) {
  ChangeRequest request;
  request.kind = "install";
  request.look_at_files = false;
  request.solve.install.push_back({spec.text, select(root, spec)});
  if (spec.kind == Spec::Kind::Channel) request.solve.channels.insert(spec.channel);
  return request;
}

PackageId one_package(Root& root, const Spec& spec) {
  root.add_files({spec});
  const auto ids = select(root, spec);
  const auto installed =
      std::find_if(ids.begin(), ids.end(), [&](PackageId id) { return root.universe().is_installed(id); });
  return installed == ids.end() ? ids.front() : *installed;
}

}  // namespace

std::vector<PackageId> described(Root& root, const Spec& spec) {
  root.add_files({spec});
  const Universe& universe = root.universe();
  const auto ids = select(root, spec);
  if (spec.kind != Spec::Kind::Glob) return {best_of(root, spec, ids)};
  std::vector<PackageId> shown;  // of each name the installed version, else the best on offer
  for (const PackageId id : ids) {
    const bool known = !shown.empty() && universe.name_id(shown.back()) == universe.name_id(id);
    if (!known)
      shown.push_back(id);
    else if (universe.is_installed(id) && !universe.is_installed(shown.back()))
      shown.back() = id;
  }
  return shown;
}

std::vector<std::string> owners_of(Root& root, const std::string& path) {
  std::vector<std::string> names;
  if (const state::State* const state = root.state())
    for (const state::OwnedFile& owner : state->owners_of(path)) names.push_back(owner.package_name);
  return names;
}

Offering offered_with(Root& root, const std::string& path) {
  Offering offering;
  const Universe& universe = root.universe();
  repo::PathSearch search =
      repo::search_paths(root.files(), &root.files(), root.network(), root.repositories(), path, root.observer());
  offering.unsearched = std::move(search.unsearched);
  for (const repo::PathHolder& holder : search.holders)
    for (const PackageId id : universe.versions_of(holder.name))
      if (universe.version(id) == holder.version && universe.architecture(id) == holder.arch)
        offering.packages.push_back(id);
  std::sort(offering.packages.begin(), offering.packages.end());
  offering.packages.erase(std::unique(offering.packages.begin(), offering.packages.end()), offering.packages.end());
  return offering;
}

std::optional<state::Generated> maker_of(Root& root, const std::string& path) {
  return root.state() == nullptr ? std::nullopt : root.state()->generated_at(path);
}

std::variant<std::vector<TreeLine>, Refused> needs(Root& root, const Spec& spec, std::size_t depth) {
  const PackageId id = one_package(root, spec);
  const Universe& universe = root.universe();
  std::vector<PackageId> set = universe.installed();
  if (!universe.is_installed(id)) {
    auto answer = choose(root, request_for(root, spec));
    if (auto* const refused = std::get_if<Refused>(&answer)) return std::move(*refused);
    set = std::get<std::vector<PackageId>>(std::move(answer));
  }
  // the version that would really be chosen, which may be another one than the newest
  PackageId top = id;
  for (const PackageId other : set)
    if (universe.name_id(other) == universe.name_id(id)) top = other;
  return plan::needs_tree(universe, set, top, depth);
}

std::vector<TreeLine> needed_by(Root& root, const Spec& spec, std::size_t depth) {
  const PackageId id = one_package(root, spec);
  const Universe& universe = root.universe();
  if (!universe.is_installed(id))
    throw Error(ErrorCode::Refused, fmt::format("{} is not installed, so nothing installed needs it", spec.text), {},
                fmt::format("`hambrel needs {}` shows what it would need", spec.text));
  return plan::needed_by_tree(universe, universe.installed(), id, depth);
}

Why why(Root& root, const Spec& spec) {
  Why result;
  result.id = one_package(root, spec);
  result.installed = root.universe().is_installed(result.id);
  if (result.installed) {
    result.chain = plan::why_installed(root.universe(), result.id);
    return result;
  }
  // Meanwhile what a plan is going to look at is checked; of the catalogue, which stays when the universe is made anew.
  const auto ahead = aside([base = root.catalog().base] { base->check_relations(); });
  auto proposed = propose(root, request_for(root, spec));
  if (auto* const refused = std::get_if<Refused>(&proposed.result))
    result.otherwise = std::move(*refused);
  else
    result.otherwise = std::move(std::get<std::unique_ptr<Proposal>>(proposed.result));
  return result;
}

std::vector<state::StatePackage> shelved(Root& root) {
  return root.state() == nullptr ? std::vector<state::StatePackage>() : root.state()->shelved();
}

std::vector<MadeFile> made_files(Root& root) {
  std::vector<MadeFile> all;
  if (root.state() == nullptr) return all;
  for (const state::Generated& one : root.state()->generated())
    all.push_back({one.entry.path, one.package, one.program});
  std::sort(all.begin(), all.end(), [](const MadeFile& a, const MadeFile& b) { return a.path < b.path; });
  return all;
}

}  // namespace hambrel::operations
