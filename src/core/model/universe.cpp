#include "model/universe.h"

#include <algorithm>
#include <numeric>
#include <tuple>

namespace hambrel {

std::string Offer::title() const { return repository.empty() ? "local file" : repository + "/" + channel; }

std::string_view text_of(Reason reason) { return reason == Reason::Wanted ? "wanted" : "pulled-in"; }

std::optional<Reason> reason_from(std::string_view text) {
  for (const Reason reason : {Reason::Wanted, Reason::PulledIn})
    if (text_of(reason) == text) return reason;
  return std::nullopt;
}

bool Candidate::offered() const {
  return std::any_of(offers.begin(), offers.end(), [](const Offer& offer) { return offer.followed; });
}

namespace {

bool before(const Candidate& a, const Candidate& b) {
  if (a.package.name != b.package.name) return a.package.name < b.package.name;
  if (a.package.version != b.package.version) return a.package.version > b.package.version;
  return a.package.arch < b.package.arch;
}

auto quality(const Offer& offer) {
  return std::tuple(offer.repository.empty() ? 0 : 1, offer.followed ? 0 : 1, offer.rank, offer.repository,
                    offer.channel);
}

}  // namespace

Universe::Universe(std::vector<Candidate> candidates) {
  // Places are sorted, not the candidates themselves: those are large, and each is moved once only.
  std::vector<std::uint32_t> order(candidates.size());
  std::iota(order.begin(), order.end(), 0U);
  std::stable_sort(order.begin(), order.end(),
                   [&](std::uint32_t a, std::uint32_t b) { return before(candidates[a], candidates[b]); });
  candidates_.reserve(candidates.size());
  for (const std::uint32_t at : order) {
    Candidate& next = candidates[at];
    if (candidates_.empty() || before(candidates_.back(), next)) {
      candidates_.push_back(std::move(next));
      continue;
    }
    Candidate& same = candidates_.back();
    if (next.installed) {  // what is installed is told by its own manifest, not by an index
      same.installed = next.installed;
      same.package = std::move(next.package);
    }
    std::move(next.offers.begin(), next.offers.end(), std::back_inserter(same.offers));
  }
  for (std::size_t i = 0; i < candidates_.size(); ++i) {
    Candidate& candidate = candidates_[i];
    std::sort(candidate.offers.begin(), candidate.offers.end(),
              [](const Offer& a, const Offer& b) { return quality(a) < quality(b); });
    const auto id = static_cast<PackageId>(i);
    by_name_[candidate.package.name].push_back(id);
    by_provided_[candidate.package.name].push_back(id);
    for (const Constraint& provided : candidate.package.provides) {
      auto& list = by_provided_[provided.name];
      if (list.empty() || list.back() != id) list.push_back(id);
    }
  }
}

std::vector<PackageId> Universe::all() const {
  std::vector<PackageId> ids(candidates_.size());
  for (std::size_t i = 0; i < ids.size(); ++i) ids[i] = static_cast<PackageId>(i);
  return ids;
}

namespace {
const std::vector<PackageId>& find_in(const std::map<std::string, std::vector<PackageId>, std::less<>>& lists,
                                      std::string_view name) {
  static const std::vector<PackageId> none;
  const auto found = lists.find(name);
  return found == lists.end() ? none : found->second;
}
}  // namespace

const std::vector<PackageId>& Universe::versions_of(std::string_view name) const { return find_in(by_name_, name); }
const std::vector<PackageId>& Universe::providers_of(std::string_view name) const {
  return find_in(by_provided_, name);
}

std::vector<PackageId> Universe::matching(const Constraint& constraint) const {
  std::vector<PackageId> result;
  for (const PackageId id : providers_of(constraint.name))
    if (satisfies(package(id), constraint)) result.push_back(id);
  return result;
}

std::vector<PackageId> Universe::matching(const Relation& relation) const {
  std::vector<PackageId> result;
  for (const Constraint& one : relation.alternatives)
    for (const PackageId id : matching(one))
      if (std::find(result.begin(), result.end(), id) == result.end()) result.push_back(id);
  return result;
}

std::optional<PackageId> Universe::installed_of(std::string_view name) const {
  for (const PackageId id : versions_of(name))
    if ((*this)[id].installed) return id;
  return std::nullopt;
}

std::vector<PackageId> Universe::installed() const {
  std::vector<PackageId> result;
  for (const PackageId id : all())
    if ((*this)[id].installed) result.push_back(id);
  return result;
}

std::vector<std::string> Universe::names() const {
  std::vector<std::string> result;
  for (const auto& [name, ids] : by_name_) result.push_back(name);
  return result;
}

std::optional<PackageId> Universe::newer_offer(PackageId installed) const {
  for (const PackageId id : versions_of(package(installed).name)) {
    if (package(id).version <= package(installed).version) break;
    if ((*this)[id].offered()) return id;
  }
  return std::nullopt;
}

}  // namespace hambrel
