// Where a rollback undoes exactly one transaction, it is that undo, which asks much less (rollback.h, B5).
#pragma once

#include <optional>

#include "txn/transaction.h"

namespace hambrel::txn {

/// Nothing where that does not serve: where it is more than one transaction, or something was changed since.
[[nodiscard]] std::optional<Planned> as_undo(os::FileSystem& root, const state::State& state, state::TxnId to);

}  // namespace hambrel::txn
