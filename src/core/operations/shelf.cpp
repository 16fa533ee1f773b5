#include "operations/shelf.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "operations/select.h"
#include "os/host.h"
#include "txn/shelve.h"

namespace hambrel::operations {

namespace {

/// Nothing that stays may miss what goes. The way out that is offered was tried.
void require_unneeded(Root& root, const solve::Names& names, const std::vector<PackageId>& stay) {
  const Universe& universe = root.universe();
  const auto problems = plan::problems_of(universe, stay, universe.installed());
  if (problems.empty()) return;
  solve::Names all = names;
  for (const PackageId id : plan::all_that_need(universe, stay)) all.emplace(universe.name(id));
  constexpr std::size_t kMost = 3;
  std::vector<std::string> some(problems.begin(),
                                problems.begin() + static_cast<std::ptrdiff_t>(std::min(kMost, problems.size())));
  throw Error(ErrorCode::Refused,
              fmt::format("others need it: {}{}", join(some, "; "),
                          problems.size() > kMost ? fmt::format("; and {} more", problems.size() - kMost) : ""),
              {},
              fmt::format("shelve them together: hambrel shelve {}",
                          join(std::vector<std::string>(all.begin(), all.end()), " ")));
}

}  // namespace

std::unique_ptr<Proposal> propose_shelve(Root& root, const std::vector<Spec>& specs, const PlannedTerms& terms) {
  const state::State& state = require_state(root);
  const Universe& universe = root.universe();
  const std::string& arch = root.options().architecture;
  solve::Names names;
  for (const Spec& spec : specs) names.merge(select_installed(root, spec));
  std::vector<state::StatePackage> packages;
  std::vector<PackageId> stay;
  for (const PackageId id : universe.installed()) {
    if (!names.contains(universe.name(id)) || (!arch.empty() && universe.architecture(id) != arch)) {
      stay.push_back(id);
      continue;
    }
    if (universe.held(id))
      throw Error(ErrorCode::Refused, fmt::format("{} is held", universe.name(id)), {},
                  fmt::format("`hambrel release {}` ends the hold", universe.name(id)));
    packages.push_back(state.package(universe[id].installed->row));
  }
  require_unneeded(root, names, stay);
  return propose(root, txn::plan_shelve(root.files(), state, packages, os::processors()), terms);
}

namespace {

bool is_meant(const Spec& spec, const Package& package) {
  if (spec.kind == Spec::Kind::Glob) return glob_match(spec.text, package.name);
  return spec.kind == Spec::Kind::Name && spec.constraint.name == package.name && satisfies(package, spec.constraint);
}

}  // namespace

void add_unshelved(Root& root, const std::vector<Spec>& specs, ChangeRequest& request) {
  root.add_shelved();
  const auto shelved = require_state(root).shelved();
  const Universe& universe = root.universe();
  const std::string& arch = root.options().architecture;
  for (const Spec& spec : specs) {
    bool found = false;
    for (const state::StatePackage& one : shelved) {
      if (!is_meant(spec, one.package) || (!arch.empty() && one.package.arch != arch)) continue;
      for (const PackageId id : universe.versions_of(one.package.name)) {
        const auto* const kept = root.kept(id);
        if (kept == nullptr || kept->row != one.row) continue;
        request.solve.install.push_back({one.package.name, {id}});
        found = true;
      }
    }
    if (!found)
      throw Error(ErrorCode::Refused, fmt::format("{} is not shelved", printable(spec.text)), {},
                  "`hambrel list shelved` shows shelved packages");
  }
}

}  // namespace hambrel::operations
