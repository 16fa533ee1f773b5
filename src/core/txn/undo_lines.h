// Undoing what a transaction did to accounts: its lines go out of the files again, whatever was written there since.
#pragma once

#include <set>
#include <string>
#include <vector>

#include "txn/transaction.h"

namespace hambrel::txn {

/// Plans that for transaction `id`, whose files lie in the attic and whose moves are these. Returns the paths that are
/// not brought back from there: they were edited since, and are written anew. Accounts that go or come are added to the
/// plan.
[[nodiscard]] std::set<std::string, std::less<>> plan_lines_back(os::FileSystem& root, const state::State& state,
                                                                 state::TxnId id, const std::vector<state::Move>& moves,
                                                                 Planned& undo);

}  // namespace hambrel::txn
