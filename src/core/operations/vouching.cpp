#include "operations/vouching.h"

#include <map>

namespace hambrel::operations {

namespace {

using Vouchers = std::map<std::string, plan::Voucher, std::less<>>;

/// Of each repository whose index was verified.
Vouchers vouchers_of(Root& root) {
  Vouchers all;
  for (const repo::CachedIndex& index : root.catalog().indexes)
    if (index.root != 0 && !index.repository.accepts_unsigned)
      all.emplace(index.repository.name, plan::Voucher{index.root, index.signers});
  return all;
}

/// One of the repositories that offer just this file; nobody where none does.
plan::Voucher voucher_for(const Universe& universe, PackageId id, const Vouchers& vouchers) {
  for (std::size_t i = 0; i < universe.offer_count(id); ++i) {
    const auto offer = universe.offer(id, i);
    const auto found = vouchers.find(offer.repository);
    if (offer.enabled && found != vouchers.end()) return found->second;
  }
  return {};
}

}  // namespace

plan::Plan vouched(Root& root, plan::Plan plan) {
  const Vouchers vouchers = vouchers_of(root);
  const Universe& universe = root.universe();
  std::map<std::string, std::vector<std::string>> unsigned_ones;  // names, by where they come from
  for (plan::Step& step : plan.steps) {
    if (!step.brings_files() || root.kept(*step.after_id) != nullptr) continue;
    step.voucher = voucher_for(universe, *step.after_id, vouchers);
    if (!step.voucher->is_nobody()) continue;
    unsigned_ones[step.origin.substr(0, step.origin.find('/'))].push_back(step.name);
  }
  for (auto& [origin, names] : unsigned_ones)
    plan.notices.push_back({plan::Notice::Kind::Unsigned, origin, plan::some_of(std::move(names))});
  return plan;
}

}  // namespace hambrel::operations
