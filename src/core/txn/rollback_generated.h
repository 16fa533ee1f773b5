// What programs of packages had made, at a rollback past several transactions: it comes back out of the attics, as
// configuration does, and nothing of it is made again by hooks.
#pragma once

#include "txn/kept.h"
#include "txn/transaction.h"

namespace hambrel::txn {

/// Adds that to what is planned, whose puts are sorted. `kept`: what transactions after `to` put away. What can't be
/// had any more is told as lost.
void restore_generated(os::FileSystem& root, const state::State& state, state::TxnId to, const Kept& kept,
                       Planned& planned);

}  // namespace hambrel::txn
