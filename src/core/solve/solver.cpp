#include "solve/solver.h"

#include "solve/explain.h"
#include "solve/selecting.h"

namespace hambrel::solve {

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
  Outcome outcome = find_selection(universe, request);
  if (outcome.selection) return std::move(*outcome.selection);
  if (outcome.why_not) return outcome.why_not->explain();
  Refusal refusal;
  refusal.what = "no way to do this was found in the time allowed, nor a proof that there is none";
  refusal.decided = false;
  return refusal;
}

}  // namespace hambrel::solve
