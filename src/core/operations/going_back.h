// undo, redo and rollback.
#pragma once

#include <memory>
#include <string>

#include "operations/proposal.h"

namespace hambrel::operations {

/// Takes back a transaction, out of the attic. Where that was altered, what it should hold comes from the cache or a
/// repository, if nothing was done since: then going back to before the transaction is the same.
/// Throws Error{NotFound}, and Error{Refused} for what stands in the way.
[[nodiscard]] std::unique_ptr<Proposal> propose_undo(Root& root, state::TxnId id, const PlannedTerms& terms);

/// Does again what was taken back.
[[nodiscard]] std::unique_ptr<Proposal> propose_redo(Root& root, state::TxnId id, const PlannedTerms& terms);

/// Takes back a transaction whose services did not come up, whatever it concerned, and starts what ran before it.
Outcome take_back_failed(ChangingRoot& root, const Outcome& failed);

/// To how things were after a transaction, given by its number, or at a checkpoint, given by its name. It may propose
/// nothing: does_nothing().
struct RollbackRequest {
  std::string to;
  PlannedTerms terms{};
};
[[nodiscard]] std::unique_ptr<Proposal> propose(Root& root, const RollbackRequest& request);
/// Is there a checkpoint of this name?
bool is_checkpoint(Root& root, const std::string& name);

}  // namespace hambrel::operations
