// shelve and unshelve.
#include "txn/shelve.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "cli/carry.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

/// Nothing that stays may miss what goes. The way out that is offered was tried.
void require_unneeded(Session& session, const solve::Names& names, const std::vector<PackageId>& stay) {
  const Universe& universe = session.universe();
  const auto problems = plan::problems_of(universe, stay, universe.installed());
  if (problems.empty()) return;
  solve::Names all = names;
  for (const PackageId id : plan::all_that_need(universe, stay)) all.emplace(universe.name(id));
  constexpr std::size_t kMost = 3;
  std::vector<std::string> some(problems.begin(),
                                problems.begin() + static_cast<std::ptrdiff_t>(std::min(kMost, problems.size())));
  throw Error(
      ErrorCode::Refused,
      fmt::format("others need it: {}{}", join(some, "; "),
                  problems.size() > kMost ? fmt::format("; and {} more", problems.size() - kMost) : ""),
      {},
      fmt::format("shelve them together: {}",
                  session.copyable("hambrel shelve " + join(std::vector<std::string>(all.begin(), all.end()), " "))));
}

}  // namespace

int run_shelve(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  const state::State& state = require_state(session, arguments);
  const Universe& universe = session.universe();
  solve::Names names;
  for (const Spec& spec : specs) names.merge(operations::select_installed(session.root(), spec));
  std::vector<state::StatePackage> packages;
  std::vector<PackageId> stay;
  for (const PackageId id : universe.installed()) {
    if (!names.contains(universe.name(id)) ||
        (!session.arch().empty() && universe.architecture(id) != session.arch())) {
      stay.push_back(id);
      continue;
    }
    if (universe.held(id))
      throw Error(
          ErrorCode::Refused, fmt::format("{} is held", universe.name(id)), {},
          fmt::format("`{}` ends the hold", session.copyable(fmt::format("hambrel release {}", universe.name(id)))));
    packages.push_back(state.package(universe[id].installed->row));
  }
  require_unneeded(session, names, stay);
  return carry_out(session, arguments, txn::plan_shelve(session.files(), state, packages, os::processors()));
}

int run_unshelve(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  session.root().add_shelved();
  const state::State& state = require_state(session, arguments);
  const auto shelved = state.shelved();
  const Universe& universe = session.universe();
  operations::ChangeRequest request = change_request(session, arguments, "unshelve");
  for (const Spec& spec : specs) {
    bool found = false;
    for (const state::StatePackage& one : shelved) {
      const bool meant = spec.kind == Spec::Kind::Glob
                             ? glob_match(spec.text, one.package.name)
                             : spec.kind == Spec::Kind::Name && spec.constraint.name == one.package.name &&
                                   satisfies(one.package, spec.constraint);
      if (!meant || (!session.arch().empty() && one.package.arch != session.arch())) continue;
      for (const PackageId id : universe.versions_of(one.package.name))
        if (const auto* const kept = session.root().kept(id); kept != nullptr && kept->row == one.row)
          request.solve.install.push_back({one.package.name, {id}}), found = true;
    }
    if (!found)
      throw Error(ErrorCode::Refused, fmt::format("{} is not shelved", printable(spec.text)), {},
                  fmt::format("`{}` shows what is", session.copyable("hambrel list shelved")));
  }
  return carry_out(session, arguments, std::move(request));
}

}  // namespace hambrel::cli
