#include "solve/outlook.h"

#include <algorithm>

namespace hambrel::solve {

std::vector<PackageId> older_versions(const Universe& universe, PackageId installed) {
  std::vector<PackageId> older;
  for (const PackageId other : universe.slot(installed))
    if (order_versions(universe.version(other), universe.version(installed)) < 0) older.push_back(other);
  return older;
}

void add_recommendations(const Encoding& encoding, PackageId id, std::vector<Recommendation>& all) {
  const Universe& universe = encoding.universe();
  const Ids versions = universe.slot(id);
  // what the installed version recommends was decided when it came
  const auto was_decided = [&](RelationId relation) {
    return std::any_of(versions.begin(), versions.end(), [&](PackageId old) {
      if (!universe.is_installed(old)) return false;
      const auto known = universe.relations(old, RelationList::Recommends);
      return std::any_of(known.begin(), known.end(), [&](RelationId one) { return universe.same_text(one, relation); });
    });
  };
  for (const RelationId relation : universe.relations(id, RelationList::Recommends)) {
    if (was_decided(relation)) continue;
    bool anyone = false;
    universe.each_match(relation, [&](PackageId other) {
      anyone = anyone || (encoding.may_choose(other) && universe.may_serve(other, id));
    });
    if (anyone) all.push_back({id, relation});
  }
}

Outlook::Outlook(const Encoding& encoding) {
  const Universe& universe = encoding.universe();
  const bool upgrades = encoding.request().upgrades_anything();
  for (const PackageId id : universe.installed()) {
    older_.add(older_versions(universe, id));
    replacers_.add(encoding.replacers(id));
    if (upgrades) newest_offers_.add(universe.newest_offers(id));
  }
  lags_.assign(universe.size(), 0);
  for (const PackageId id : encoding.cone()) {
    lags_[index_of(id)] = encoding.lag(id);
    if (encoding.request().recommended && !universe.is_installed(id))
      add_recommendations(encoding, id, recommendations_);
  }
}

}  // namespace hambrel::solve
