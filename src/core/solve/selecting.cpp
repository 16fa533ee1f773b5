#include "solve/selecting.h"

#include <algorithm>
#include <set>

#include "base/assert.h"
#include "solve/criteria.h"
#include "solve/obstacles.h"
#include "solve/solver.h"

namespace hambrel::solve {

namespace {

/// The share of the budget that is left for each level after one could not be proved.
constexpr std::uint64_t kShareAfterwards = 16;

/// Meets one level after another, then settles what is still open by name and version.
Selection optimize(Encoding& encoding) {
  const std::uint64_t budget = encoding.request().budget;
  Cdcl& engine = encoding.engine();
  Selection selection;
  Softs softs(encoding);
  for (const Level level : levels_for(encoding.request())) {
    if (!selection.proved) engine.set_budget(budget / kShareAfterwards);
    const Optimum optimum = minimize(engine, softs.of(level));
    selection.levels.push_back({level, optimum.cost, optimum.proved && selection.proved});
    selection.proved = selection.proved && optimum.proved;
  }
  // What comes last in the order of lists is left out first: of equals the first name, of versions the newest, stays.
  std::vector<Var> order;
  for (auto id = encoding.cone().rbegin(); id != encoding.cone().rend(); ++id) order.push_back(encoding.lit(*id).var());
  engine.set_order(order);
  if (!selection.proved) engine.set_budget(budget / kShareAfterwards);
  if (engine.solve_first(false) == Answer::Unknown) selection.proved = false;
  selection.chosen = encoding.chosen();
  HAMBREL_ASSERT(selection.levels.size() == levels_for(encoding.request()).size(), "each level was met in its turn");
  selection.conflicts = engine.conflicts();
  selection.steps = engine.steps();
  return selection;
}

/// Nothing that is installed had to give way: no selection of the full cone can be better.
bool is_optimum_of_all(const Selection& selection) {
  return selection.proved && std::all_of(selection.levels.begin(), selection.levels.end(), [](const LevelValue& one) {
           const bool about_installed = one.level == Level::Removed || one.level == Level::Downgraded ||
                                        one.level == Level::AskedLag || one.level == Level::Touched;
           return !about_installed || one.value == 0;
         });
}

/// The optimum where all else that is installed stays as it is, if no other can be better.
std::optional<Selection> find_beside_installed(const Universe& universe, const Request& request) {
  Encoding encoding(universe, request, Encoding::Scope::Frozen);
  encoding.engine().set_budget(request.budget);
  if (encoding.engine().solve({}) != Answer::Yes) return std::nullopt;
  Selection selection = optimize(encoding);
  if (!is_optimum_of_all(selection)) return std::nullopt;
  return selection;
}

void settle(Encoding& encoding) {
  for (const Lit selector : encoding.selectors()) encoding.engine().add({selector});
}

/// An upgrade: what it leaves behind is asked about afterwards, of clauses in which nothing was settled.
Outcome find_upgrade(const Universe& universe, const Request& request) {
  const auto whole = std::make_shared<Encoding>(universe, request, Encoding::Scope::Full, Encoding::Selectors::Roots);
  Cdcl untouched = whole->engine();
  settle(*whole);
  whole->engine().set_budget(request.budget);
  switch (whole->engine().solve({})) {
    case Answer::Yes: {
      Selection selection = optimize(*whole);
      selection.obstacles = std::make_shared<Obstacles>(whole, std::move(untouched));
      return {std::move(selection), nullptr};
    }
    case Answer::No: return {std::nullopt, std::make_shared<Explainer>(universe, request)};
    case Answer::Unknown: break;
  }
  return {};
}

Outcome find_whole(const Universe& universe, const Request& request) {
  if (!request.is_upgrade() && !request.changes_installed)
    if (auto selection = find_beside_installed(universe, request)) return {std::move(selection), nullptr};
  if (request.upgrades_anything()) return find_upgrade(universe, request);
  auto whole = std::make_shared<Encoding>(universe, request, Encoding::Scope::Full, Encoding::Selectors::Roots);
  whole->engine().set_budget(request.budget);
  switch (whole->engine().solve(whole->selectors())) {
    case Answer::Yes: settle(*whole); return {optimize(*whole), nullptr};
    case Answer::No: return {std::nullopt, std::make_shared<Explainer>(std::move(whole))};
    case Answer::Unknown: break;
  }
  return {};
}

/// What is wanted after a selection: what was, what was asked for, and what takes over for something wanted.
std::set<PackageId> wanted_after(const Universe& universe, const Request& request, const Selection& selection) {
  std::set<PackageId> wanted;
  for (const Target& target : request.install)
    for (const PackageId id : target.candidates) wanted.insert(id);
  for (const PackageId id : universe.installed()) {
    if (!universe.wanted(id) && !universe.is_protected(id)) continue;
    for (const PackageId other : universe.slot(id)) wanted.insert(other);
    for (const PackageId other : universe.replacers_of(id)) wanted.insert(other);
  }
  const std::set<PackageId> chosen(selection.chosen.begin(), selection.chosen.end());
  std::erase_if(wanted, [&](PackageId id) { return !chosen.contains(id); });
  return wanted;
}

void drop_unneeded(const Universe& universe, const Request& request, Selection& selection) {
  if (!request.drop_unneeded) return;
  const auto idle =
      unneeded(universe, selection.chosen, wanted_after(universe, request, selection), request.strict_unneeded);
  std::erase_if(selection.chosen, [&](PackageId id) {
    return !universe.held(id) && std::find(idle.begin(), idle.end(), id) != idle.end();
  });
}

}  // namespace

Outcome find_selection(const Universe& universe, const Request& request) {
  Outcome outcome = find_whole(universe, request);
  if (outcome.selection) drop_unneeded(universe, request, *outcome.selection);
  return outcome;
}

std::optional<Selection> find_selection(Encoding& encoding) {
  encoding.engine().set_budget(encoding.request().budget);
  if (encoding.engine().solve({}) != Answer::Yes) return std::nullopt;
  Selection selection = optimize(encoding);
  drop_unneeded(encoding.universe(), encoding.request(), selection);
  return selection;
}

}  // namespace hambrel::solve
