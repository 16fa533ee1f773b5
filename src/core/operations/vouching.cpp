#include "operations/vouching.h"

#include <fmt/format.h>

#include <map>

#include "base/text.h"
#include "operations/known_keys.h"

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

/// Does a repository that is used offer just this file? It was decided on with the repository then.
bool is_offered(const Universe& universe, PackageId id) {
  for (std::size_t i = 0; i < universe.offer_count(id); ++i)
    if (const auto offer = universe.offer(id, i); offer.enabled && !offer.repository.empty()) return true;
  return false;
}

/// Of a package file: the keys that are known here, told with the plan; else a doubt.
plan::Voucher voucher_for_file(Root& root, const std::string& package, const archive::PackageReader& file,
                               Vouched& result) {
  using Kind = plan::Notice::Kind;
  plan::Voucher voucher;
  if (root.is_made_here(file.where())) return voucher;
  Doubt doubt{file.where(), package};
  for (const FileSigner& signer : signers_of(root, file)) {
    if (signer.name.empty()) {
      doubt.keys.push_back(signer.key);
      continue;
    }
    voucher.keys.push_back(signer.key);
    result.plan.notices.push_back({Kind::Signed, file.where(), signer.name});
  }
  if (!voucher.is_nobody()) return voucher;
  if (doubt.keys.empty()) result.plan.notices.push_back({Kind::Unsigned, file.where(), package});
  for (const std::string& key : doubt.keys) result.plan.notices.push_back({Kind::UnknownKey, file.where(), key});
  if (!root.settings().accepts_unsigned_files) result.doubts.push_back(std::move(doubt));
  return voucher;
}

}  // namespace

std::string Doubt::text() const {
  return keys.empty() ? file + " is not signed"
                      : fmt::format("{} is signed with a key that is not known here: {}", file, join(keys, ", "));
}

Vouched vouched(Root& root, plan::Plan plan) {
  Vouched result{std::move(plan), {}};
  const Vouchers vouchers = vouchers_of(root);
  const Universe& universe = root.universe();
  std::map<std::string, std::vector<std::string>> unsigned_ones;  // names, by where they come from
  for (plan::Step& step : result.plan.steps) {
    if (!step.brings_files() || root.kept(*step.after_id) != nullptr) continue;
    step.voucher = voucher_for(universe, *step.after_id, vouchers);
    if (!step.voucher->is_nobody()) continue;
    const archive::PackageReader* const file = root.file_reader(*step.after_id);
    if (file != nullptr && !is_offered(universe, *step.after_id))
      step.voucher = voucher_for_file(root, step.name, *file, result);
    else
      unsigned_ones[step.origin.substr(0, step.origin.find('/'))].push_back(step.name);
  }
  for (auto& [origin, names] : unsigned_ones)
    result.plan.notices.push_back({plan::Notice::Kind::Unsigned, origin, plan::some_of(std::move(names))});
  return result;
}

plan::Voucher voucher_of_offer(Root& root, PackageId id) { return voucher_for(root.universe(), id, vouchers_of(root)); }

void require_accepted(const std::vector<Doubt>& doubts, bool accepted) {
  if (doubts.empty() || accepted) return;
  throw Error(ErrorCode::Declined, "nobody vouches for it: " + doubts.front().text(), {},
              doubts.front().keys.empty()
                  ? "to install it anyway: --allow-unsigned"
                  : "compare the key with what its maker says, then `hambrel key add FILE`; to install it anyway: "
                    "--allow-unsigned");
}

}  // namespace hambrel::operations
