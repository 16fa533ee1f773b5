// Freeing what a root keeps: attics, which are given up, and cached package files, which are dropped.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "operations/limits.h"
#include "operations/proposal.h"

namespace hambrel::operations {

using repo::CachedFile;
using state::TxnId;
using txn::StandingAttic;

/// What of the attics would be given up.
struct [[nodiscard]] AtticProposal {
  std::vector<StandingAttic> attics;   // all, oldest first
  std::map<TxnId, std::string> kinds;  // of their transactions
  std::vector<TxnId> goes;
  plan::Plan plan;      // with what can't be done any more afterwards
  ByteCount bytes = 0;  // that are free then
  bool is_given_up(const StandingAttic& one) const;
};
/// Beyond these limits; without any, beyond those of the settings. Throws Error{NotFound} for a root without a state.
[[nodiscard]] AtticProposal propose_giving_up(Root& root, txn::Limits limits);
TxnId give_up(ChangingRoot& root, const AtticProposal& proposal, const std::string& reason);

/// Which cached package files are unwanted, beside those beyond the limits.
struct CacheRequest {
  repo::CacheLimits limits{};
  bool all = false, unavailable = false;  // unavailable: what no repository offers
};
struct [[nodiscard]] CacheProposal {
  std::size_t files = 0;  // in the cache
  std::vector<CachedFile> goes;
  ByteCount bytes = 0;
  std::map<TxnId, std::vector<std::string>> last_copies;  // versions that left with it, and lie nowhere else
};
/// Without any limit in the request those of the settings hold.
[[nodiscard]] CacheProposal propose_dropping(Root& root, const CacheRequest& request);
void drop(ChangingRoot& root, const CacheProposal& proposal);

/// Is the version of a cached file installed?
bool is_installed(Root& root, const CachedFile& file);

}  // namespace hambrel::operations
