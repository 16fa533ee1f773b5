// Taking back what an earlier transaction did, out of its attic: renames, nothing fetched, nothing unpacked.
#pragma once

#include "txn/transaction.h"

namespace hambrel::txn {

/// How a plan shows a change of a package whose files come from the attic.
plan::Step step_of(const state::PackageChange& back, plan::Why why);

/// Throws Error{NotFound} for an unknown number, Error{Refused} that says what stands in the way: later transactions on
/// the same packages or paths, packages that would be left without what they require, an attic that is gone.
Planned plan_undo(os::FileSystem& root, const state::State& state, state::TxnId id);

}  // namespace hambrel::txn
