#include "solve/solver.h"

#include <algorithm>

#include "solve/criteria.h"
#include "solve/encoding.h"
#include "solve/explain.h"
#include "solve/obstacles.h"

namespace hambrel::solve {

namespace {

/// The share of the budget that is left for each level after one could not be proved.
constexpr std::uint64_t kAfterwards = 16;

/// Meets one level after another, then settles what is still open by name and version.
Selection optimize(Encoding& encoding, std::uint64_t budget) {
  Cdcl& engine = encoding.engine();
  Selection selection;
  Softs softs(encoding);
  for (const Level level : levels_for(encoding.request())) {
    if (!selection.proved) engine.set_budget(budget / kAfterwards);
    const Optimum optimum = minimize(engine, softs.of(level));
    selection.levels.push_back({level, optimum.cost, optimum.proved && selection.proved});
    selection.proved = selection.proved && optimum.proved;
  }
  // What comes last in the order of lists is left out first: of equals the first name, of versions the newest, stays.
  std::vector<Var> order;
  for (auto id = encoding.cone().rbegin(); id != encoding.cone().rend(); ++id) order.push_back(encoding.lit(*id).var());
  engine.set_order(order);
  if (!selection.proved) engine.set_budget(budget / kAfterwards);
  if (engine.solve_first(false) == Answer::Unknown) selection.proved = false;
  selection.chosen = encoding.chosen();
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

std::variant<Selection, Refusal> solve_whole(const Universe& universe, const Request& request) {
  if (!request.is_upgrade() && !request.upgrade_all && !request.changes_installed) {
    Encoding encoding(universe, request, Encoding::Scope::Frozen);
    encoding.engine().set_budget(request.budget);
    if (encoding.engine().solve({}) == Answer::Yes) {
      Selection selection = optimize(encoding, request.budget);
      if (is_optimum_of_all(selection)) return selection;
    }
  }
  const bool upgrades = request.upgrade_all || !request.upgrade.empty();
  const auto whole = std::make_shared<Encoding>(universe, request, Encoding::Scope::Full,
                                                upgrades ? Encoding::Selectors::Roots : Encoding::Selectors::None);
  Encoding& encoding = *whole;
  std::optional<Cdcl> untouched;
  if (upgrades) {
    untouched = encoding.engine();
    for (const Encoding::Statement& one : encoding.statements()) encoding.engine().add({one.selector});
  }
  encoding.engine().set_budget(request.budget);
  switch (encoding.engine().solve({})) {
    case Answer::Yes: {
      Selection selection = optimize(encoding, request.budget);
      if (upgrades) selection.obstacles = std::make_shared<Obstacles>(whole, std::move(*untouched));
      return selection;
    }
    case Answer::No: return std::make_shared<Explainer>(universe, request)->explain();
    case Answer::Unknown: break;
  }
  Refusal refusal;
  refusal.what = "no way to do this was found in the time allowed, nor a proof that there is none";
  refusal.decided = false;
  return refusal;
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

}  // namespace

std::vector<PackageId> unneeded(const Universe& universe, const std::vector<PackageId>& set,
                                const std::set<PackageId>& wanted, bool strict) {
  enum : std::uint8_t { kOutside, kMember, kNeeded };
  std::vector<std::uint8_t> state(universe.size(), kOutside);
  std::vector<PackageId> queue;
  for (const PackageId id : set) state[index_of(id)] = kMember;
  const auto need = [&](PackageId id) {
    if (state[index_of(id)] != kMember) return;
    state[index_of(id)] = kNeeded;
    queue.push_back(id);
  };
  for (const PackageId id : wanted) need(id);
  while (!queue.empty()) {
    const PackageId id = queue.back();
    queue.pop_back();
    for (const RelationList list : {RelationList::Requires, RelationList::Recommends, RelationList::Suggests})
      if (list == RelationList::Requires || !strict)
        for (const RelationId relation : universe.relations(id, list)) universe.each_match(relation, need);
  }
  std::vector<PackageId> result;
  for (const PackageId id : set)
    if (state[index_of(id)] == kMember) result.push_back(id);
  return result;
}

std::vector<PackageId> unneeded_of(const Universe& universe, const std::vector<PackageId>& installed) {
  std::set<PackageId> wanted;
  for (const PackageId id : installed)
    if (universe.wanted(id) || universe.is_protected(id)) wanted.insert(id);
  return unneeded(universe, installed, wanted);
}

std::variant<Selection, Refusal> solve(const Universe& universe, const Request& request) {
  auto answer = solve_whole(universe, request);
  auto* selection = std::get_if<Selection>(&answer);
  if (selection == nullptr || !request.drop_unneeded) return answer;
  const auto idle =
      unneeded(universe, selection->chosen, wanted_after(universe, request, *selection), request.strict_unneeded);
  std::erase_if(selection->chosen, [&](PackageId id) {
    return !universe.held(id) && std::find(idle.begin(), idle.end(), id) != idle.end();
  });
  return answer;
}

}  // namespace hambrel::solve
