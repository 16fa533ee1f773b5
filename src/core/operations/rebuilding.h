// Recreating a lost state.
#pragma once

#include <string>
#include <vector>

#include "operations/root.h"
#include "txn/rebuild.h"

namespace hambrel::operations {

struct RebuildRequest {
  std::string ledger_file{};  // of the host, as `ledger export` wrote it; empty: the copy in the root
  std::vector<Spec> files{};  // package files that are to be had nowhere else
};
struct [[nodiscard]] RebuildProposal {
  txn::Rebuilding planned;
  std::string broken;  // why nothing later than this is known; empty: it is all there
};

/// The root was opened as one whose state is lost. Throws Error{Refused} where it is sound, or where no ledger is.
[[nodiscard]] RebuildProposal propose(Root& root, const RebuildRequest& request);
/// Returns the number in the ledger.
state::TxnId perform(ChangingRoot& root, const RebuildProposal& proposal, const std::string& reason);

}  // namespace hambrel::operations
