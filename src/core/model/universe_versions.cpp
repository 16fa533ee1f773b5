// The versions of a name, those in a slot, and which of them is newer.
#include <algorithm>
#include <boost/container/small_vector.hpp>
#include <tuple>

#include "model/universe.h"

namespace hambrel {

/// Of several files of one version the one of the best rank comes first. Are there such?
bool Universe::best_files_first(std::span<PackageId> ids) const {
  if (ids.size() < 2) return false;
  bool several = false;
  const auto is_same = [&](PackageId a, PackageId b) {  // a layer has each text once
    const bool same = is_base(a) == is_base(b) ? record(a).version == record(b).version : version(a) == version(b);
    return same && architecture(a) == architecture(b);
  };
  const auto rank = [&](PackageId id) {
    const auto offer = best_offer(id);
    return offer ? std::tuple(offer->followed ? 0 : 1, offer->rank, offer->repository)
                 : std::tuple(2, 0U, std::string_view());
  };
  for (auto first = ids.begin(); first != ids.end();) {
    const auto end = std::find_if(first, ids.end(), [&](PackageId id) { return !is_same(*first, id); });
    if (end - first > 1) {
      several = true;
      std::stable_sort(first, end, [&](PackageId a, PackageId b) { return rank(a) < rank(b); });
    }
    first = end;
  }
  return several;
}

Ids Universe::find_versions(NameId name) const {
  constexpr std::size_t kUsual = 16;  // most names have fewer versions, and there are many names
  boost::container::small_vector<PackageId, kUsual> ids;
  const auto number = static_cast<std::size_t>(name);
  if (number < base_->names())
    for (std::uint32_t at = base_->name_starts[number], end = base_->name_starts[number + 1]; at < end; ++at)
      if (visible(static_cast<PackageId>(at))) ids.push_back(static_cast<PackageId>(at));
  const std::size_t of_base = ids.size();  // these stand in order already
  for (const image::ProviderRecord& one :
       number < base_->names() ? overlay_providers(number) : overlay_->providers_of(name)) {
    const auto id = static_cast<PackageId>(one.package);
    if (name_id(id) == name && visible(id) && (ids.empty() || ids.back() != id)) ids.push_back(id);
  }
  if (ids.size() > 1 && ids.size() > of_base) sort({ids.data(), ids.size()});
  const bool several_files = best_files_first({ids.data(), ids.size()});
  return versions_.keep(number, {ids.data(), ids.size()}, several_files);
}

bool Universe::has_several_files(NameId name) const {
  versions_of(name);
  return versions_.is_marked(static_cast<std::size_t>(name));
}

Ids Universe::versions_of(std::string_view name) const {
  const auto id = find_name(name);
  return id ? versions_of(*id) : Ids();
}

Ids Universe::slot_of_class(PackageId id) const {
  const Ids all = versions_of(name_id(id));
  const std::lock_guard lock(mutex_);
  const auto [found, is_new] = slots_.try_emplace({name_id(id), architecture_class(id)});
  if (is_new)
    for (const PackageId other : all)
      if (same_slot(id, other)) found->second.push_back(other);
  return found->second;
}

bool Universe::is_slot_offered(PackageId id) const {
  const Ids versions = slot(id);
  return std::any_of(versions.begin(), versions.end(), [&](PackageId one) { return offered(one); });
}

std::vector<PackageId> Universe::newest_offers(PackageId installed) const {
  std::vector<PackageId> newest;
  for (const PackageId id : slot(installed)) {
    if (id == installed || order_versions(version(id), version(installed)) <= 0) break;
    if (!newest.empty() && version(id) != version(newest.front())) break;
    if (offered(id)) newest.push_back(id);
  }
  return newest;
}

std::optional<PackageId> Universe::newer_offer(PackageId installed) const {
  for (const PackageId id : slot(installed)) {
    if (id == installed || order_versions(version(id), version(installed)) <= 0) break;
    if (offered(id)) return id;
  }
  return std::nullopt;
}

}  // namespace hambrel
