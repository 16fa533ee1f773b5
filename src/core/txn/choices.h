// What the administrator chose that lies in no file: candidates that were picked, channels that packages follow.
#pragma once

#include "txn/transaction.h"

namespace hambrel::txn {

/// Adds to an undo what a transaction changed of them, as far as it stands.
void take_choices_back(const state::State& state, state::TxnId id, Planned& undo);
/// Adds to a rollback that they are as after `to`.
void put_choices_back(const state::State& state, state::TxnId to, Planned& rollback);

}  // namespace hambrel::txn
