// What a root keeps of its past and for later: attics, cached package files, checkpoints, what is prepared.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "operations/limits.h"
#include "operations/proposal.h"

namespace hambrel::operations {

using repo::CachedFile;
using state::Checkpoint;
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

struct KeptCheckpoint {
  Checkpoint checkpoint;
  ByteCount attic = 0;  // bytes that the attic keeps because of it: everything since
};
/// Oldest first.
std::vector<KeptCheckpoint> checkpoints(Root& root);
Checkpoint make_checkpoint(ChangingRoot& root, const std::string& name, const std::string& reason);
void drop_checkpoint(ChangingRoot& root, const std::string& name);

/// A change that waits for its switch.
struct PreparedChange {
  state::Prepared account;
  plan::Plan plan;
};
std::optional<PreparedChange> prepared(Root& root);
/// `booting`: services are left to the start of the system, which goes on behind this.
Outcome activate(ChangingRoot& root, const PreparedChange& one, bool booting, const std::function<bool()>& stop_asked);
void discard(ChangingRoot& root, const PreparedChange& one);
/// With the next start of the system, or not any more.
void activate_at_boot(ChangingRoot& root, const PreparedChange& one, bool at_boot);

}  // namespace hambrel::operations
