// Changes that are planned without a solver: undo, redo, rollback, repair.
#pragma once

#include <functional>

#include "cli/session.h"

namespace hambrel::cli {

/// The state that such a plan is made from: opened for changing, or with --dry-run for looking. Throws Error{NotFound}
/// where nothing was changed yet.
const state::State& past(Session& session, const Arguments& arguments);

/// What the ledger says of this run beside the outcome.
txn::Account account_of(const Session& session, const Arguments& arguments, const plan::Plan& plan);

/// Shown, agreed to, done by `switch_to`, told. Returns the exit code.
int carry_out(Session& session, const Arguments& arguments, const plan::Plan& plan,
              const std::optional<state::TxnId>& undo_of,
              const std::function<state::TxnId(txn::Engine&, const txn::Account&)>& switch_to);

/// --json: that there is nothing to do.
void screen_nothing(Session& session, const plan::Plan& plan);

}  // namespace hambrel::cli
