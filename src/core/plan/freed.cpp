#include "plan/freed.h"

#include <algorithm>
#include <set>

#include "plan/plan.h"
#include "solve/solver.h"

namespace hambrel::plan {

namespace {

std::vector<PackageId> idle_among(const Universe& universe, const std::vector<PackageId>& set) {
  std::set<PackageId> wanted;
  for (const PackageId id : set)
    if (universe.wanted(id)) wanted.insert(id);
  return solve::unneeded(universe, set, wanted);
}

}  // namespace

Freed freed_by(const Universe& universe, const std::vector<PackageId>& ids) {
  Freed freed;
  const std::set<PackageId> named(ids.begin(), ids.end());
  std::vector<PackageId> rest;
  for (const PackageId id : universe.installed())
    if (!named.contains(id)) rest.push_back(id);
  freed.stand_on = all_that_need(universe, rest);
  freed.packages = ids;
  if (freed.stand_on.empty()) {
    const auto before = idle_among(universe, universe.installed());
    for (const PackageId id : idle_among(universe, rest))
      if (std::find(before.begin(), before.end(), id) == before.end() && !universe.held(id))
        freed.packages.push_back(id);
  }
  for (const PackageId id : freed.packages) freed.bytes += universe.installed_size(id);
  return freed;
}

}  // namespace hambrel::plan
