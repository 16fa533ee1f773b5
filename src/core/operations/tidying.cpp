#include "operations/tidying.h"

#include <algorithm>
#include <map>
#include <set>
#include <tuple>

#include "base/assert.h"
#include "os/host.h"

namespace hambrel::operations {

bool AtticProposal::is_given_up(const StandingAttic& one) const {
  return std::find(goes.begin(), goes.end(), one.attic.id) != goes.end();
}

AtticProposal propose_giving_up(Root& root, txn::Limits limits) {
  const state::State& state = require_state(root);
  AtticProposal proposal;
  proposal.attics = standing_attics(root);  // whose sizes are remembered
  const state::State::ReadTransaction still(state);
  if (!limits.transactions && !limits.days && !limits.bytes)
    limits = attic_limits(root);
  else
    drop_age_in_doubt(root, limits);
  proposal.goes = txn::over_limits(limits, proposal.attics, 0);
  proposal.plan.kind = state::kGivingUp;
  if (!proposal.goes.empty()) proposal.plan.notices.push_back(txn::notice_of(proposal.goes));
  for (const TxnId id : proposal.goes)
    HAMBREL_ASSERT(std::any_of(proposal.attics.begin(), proposal.attics.end(),
                               [&](const StandingAttic& one) { return one.attic.id == id; }),
                   "only attics that stand are given up");
  for (const StandingAttic& one : proposal.attics) {
    proposal.kinds.emplace(one.attic.id, state.ledger_entry(one.attic.id)->kind);
    if (proposal.is_given_up(one)) proposal.bytes += one.attic.bytes.value_or(0);
  }
  return proposal;
}

TxnId give_up(ChangingRoot& root, const AtticProposal& proposal, const std::string& reason) {
  return txn::Engine(root.environment()).give_up(proposal.goes, account_of(root, proposal.plan, reason));
}

namespace {

using LastCopies = std::map<state::TxnId, std::vector<std::string>>;

LastCopies last_copies(Root& root, const std::vector<repo::CachedFile>& files) {
  LastCopies result;
  const state::State* const state = root.state();
  if (state == nullptr) return result;
  std::set<state::TxnId> standing;
  for (const state::Attic& one : state->attics()) standing.insert(one.id);
  std::map<std::tuple<std::string, std::string, std::string>, const repo::CachedFile*> by_version;
  for (const repo::CachedFile& one : files)
    if (!one.rest) by_version.emplace(std::tuple(one.name, one.version, one.arch), &one);
  for (const state::Replaced& one : state->replaced()) {
    const Package& package = one.package.package;
    const auto file = by_version.find({package.name, package.version.text(), package.arch});
    if (file != by_version.end() && !standing.contains(one.left) && !is_offered(root, *file->second))
      result[one.left].push_back(package.title());
  }
  return result;
}

}  // namespace

CacheProposal propose_dropping(Root& root, const CacheRequest& request) {
  const auto files = repo::cached_files(root.files());
  const bool any = request.limits.versions || request.limits.days || request.all || request.unavailable;
  CacheProposal proposal;
  proposal.files = files.size();
  proposal.goes = repo::over_limits(
      any ? request.limits : repo::cache_limits_of(root.settings()), files, os::now(),
      [&](const repo::CachedFile& one) { return request.all || (request.unavailable && !is_offered(root, one)); });
  for (const repo::CachedFile& one : proposal.goes) proposal.bytes += one.size;
  proposal.last_copies = last_copies(root, proposal.goes);
  return proposal;
}

void drop(ChangingRoot& root, const CacheProposal& proposal) {
  const ByteCount bytes = repo::drop_cached(root.files(), proposal.goes);
  HAMBREL_ASSERT(bytes == proposal.bytes, "as much goes as was shown");
}

bool is_installed(Root& root, const CachedFile& file) {
  const Universe& universe = root.universe();
  for (const PackageId id : universe.versions_of(file.name))
    if (universe.version(id) == file.version && universe.architecture(id) == file.arch && universe.is_installed(id))
      return true;
  return false;
}

}  // namespace hambrel::operations
