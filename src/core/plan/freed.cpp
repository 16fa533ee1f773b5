#include "plan/freed.h"

#include <algorithm>
#include <set>

#include "plan/plan.h"
#include "solve/solver.h"

namespace hambrel::plan {

Freed freed_by(const Universe& universe, const std::vector<PackageId>& ids, const std::vector<PackageId>& idle) {
  Freed freed;
  const std::set<PackageId> named(ids.begin(), ids.end());
  std::vector<PackageId> rest;
  for (const PackageId id : universe.installed())
    if (!named.contains(id)) rest.push_back(id);
  freed.stand_on = all_that_need(universe, rest);
  freed.packages = ids;
  if (freed.stand_on.empty()) {
    for (const PackageId id : solve::unneeded_of(universe, rest))
      if (std::find(idle.begin(), idle.end(), id) == idle.end() && !universe.held(id)) freed.packages.push_back(id);
  }
  for (const PackageId id : freed.packages) freed.bytes += universe.installed_size(id);
  return freed;
}

}  // namespace hambrel::plan
