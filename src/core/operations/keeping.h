// What a root keeps of its past and for later: attics, cached package files, checkpoints, what is prepared.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "operations/limits.h"
#include "operations/proposal.h"

namespace hambrel::operations {

/// What of the attics would be given up.
struct AtticProposal {
  std::vector<txn::StandingAttic> attics;  // all, oldest first
  std::vector<state::TxnId> goes;
  plan::Plan plan;      // with what can't be done any more afterwards
  ByteCount bytes = 0;  // that are free then
  bool is_given_up(const txn::StandingAttic& one) const;
};
/// Beyond these limits; without any, beyond those of the settings.
AtticProposal propose_giving_up(Root& root, txn::Limits limits);
state::TxnId give_up(ChangingRoot& root, const AtticProposal& proposal, const std::string& reason);

/// Which cached package files are unwanted, beside those beyond the limits.
struct CacheRequest {
  repo::CacheLimits limits{};
  bool all = false, unavailable = false;  // unavailable: what no repository offers
};
struct CacheProposal {
  std::size_t files = 0;  // in the cache
  std::vector<repo::CachedFile> goes;
  ByteCount bytes = 0;
  std::map<state::TxnId, std::vector<std::string>> last_copies;  // versions that left with it, and lie nowhere else
};
/// Without any limit in the request those of the settings hold.
CacheProposal propose_dropping(Root& root, const CacheRequest& request);
void drop(ChangingRoot& root, const CacheProposal& proposal);

state::Checkpoint make_checkpoint(ChangingRoot& root, const std::string& name, const std::string& reason);
void drop_checkpoint(ChangingRoot& root, const std::string& name);

std::optional<state::Prepared> prepared(Root& root);
state::TxnId activate(ChangingRoot& root, const state::Prepared& one, const std::function<bool()>& stop_asked);
void discard(ChangingRoot& root, const state::Prepared& one);
/// With the next start of the system, or not any more.
void activate_at_boot(ChangingRoot& root, const state::Prepared& one, bool at_boot);

}  // namespace hambrel::operations
