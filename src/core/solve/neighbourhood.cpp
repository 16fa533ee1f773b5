#include "solve/neighbourhood.h"

#include <algorithm>
#include <numeric>
#include <utility>

namespace hambrel::solve {

Neighbourhood::Neighbourhood(const Universe& universe, const std::vector<PackageId>& chosen)
    : universe_(universe), in_(universe.size(), 0), near_(universe.name_count(), 0) {
  for (const PackageId id : chosen) in_[index_of(id)] = 1;
  std::vector<std::pair<PackageId, Use>> all;
  for (const PackageId user : chosen)
    for (const RelationId relation : universe.relations(user, RelationList::Requires))
      for (const PackageId provider : universe.matching(relation))
        if (in_[index_of(provider)] != 0 && provider != user) all.emplace_back(provider, Use{user, relation});
  use_starts_.assign(universe.size() + 1, 0);
  for (const auto& [provider, use] : all) ++use_starts_[index_of(provider) + 1];
  std::partial_sum(use_starts_.begin(), use_starts_.end(), use_starts_.begin());
  uses_.resize(use_starts_.back());
  std::vector<std::uint32_t> next = use_starts_;
  for (const auto& [provider, use] : all) uses_[next[index_of(provider)]++] = use;
  for (const PackageId one : chosen)
    for (const RelationList list : {RelationList::Conflicts, RelationList::Replaces})
      for (const RelationId relation : universe.relations(one, list))
        for (const PackageId other : universe.matching(relation))
          if (in_[index_of(other)] == 0) against_.emplace_back(other, one);
  std::sort(against_.begin(), against_.end());
}

void Neighbourhood::mark(NameId name) {
  if (std::exchange(near_[static_cast<std::size_t>(name)], 1) == 0) queue_.push_back(name);
}

void Neighbourhood::add(NameId name) {
  mark(name);
  while (!queue_.empty()) {
    const NameId next = queue_.back();
    queue_.pop_back();
    for (const PackageId id : universe_.versions_of(next)) {
      look_at(id);
      if (in_[index_of(id)] != 0) look_at_users(id);
    }
  }
}

/// By something chosen that is not near?
bool Neighbourhood::is_met_from_afar(RelationId relation) const {
  const Ids providers = universe_.matching(relation);
  return std::any_of(providers.begin(), providers.end(),
                     [&](PackageId id) { return in_[index_of(id)] != 0 && !has(universe_.name_id(id)); });
}

/// What a version needs to come, and what stands against it.
void Neighbourhood::look_at(PackageId id) {
  if (!universe_.is_installed(id) && !universe_.offered(id)) return;
  for (const RelationId relation : universe_.relations(id, RelationList::Requires)) {
    if (is_met_from_afar(relation)) continue;
    for (const PackageId provider : universe_.matching(relation))
      if (universe_.is_installed(provider) || universe_.offered(provider)) mark(universe_.name_id(provider));
  }
  for (const RelationList list : {RelationList::Conflicts, RelationList::Replaces})
    for (const RelationId relation : universe_.relations(id, list))
      for (const PackageId other : universe_.matching(relation))
        if (in_[index_of(other)] != 0) mark(universe_.name_id(other));
  const auto by_package = [](const auto& a, const auto& b) { return a.first < b.first; };
  const auto [first, last] = std::equal_range(against_.begin(), against_.end(), std::pair(id, PackageId{}), by_package);
  for (auto it = first; it != last; ++it) mark(universe_.name_id(it->second));
}

/// Those that need the chosen version, unless another one would do as well: that something goes altogether is looked at
/// only where few need it.
void Neighbourhood::look_at_users(PackageId id) {
  constexpr std::uint32_t kFew = 4;
  const Ids versions = universe_.slot(id);
  const bool may_go = use_starts_[index_of(id) + 1] - use_starts_[index_of(id)] <= kFew || versions.size() < 2;
  for (std::uint32_t i = use_starts_[index_of(id)]; i < use_starts_[index_of(id) + 1]; ++i) {
    const Use& use = uses_[i];
    if (is_met_from_afar(use.relation)) continue;
    const Ids providers = universe_.matching(use.relation);
    const auto does = [&](PackageId one) {
      return one == id || !universe_.offered(one) ||
             std::find(providers.begin(), providers.end(), one) != providers.end();
    };
    if (may_go || !std::all_of(versions.begin(), versions.end(), does)) mark(universe_.name_id(use.user));
  }
}

}  // namespace hambrel::solve
