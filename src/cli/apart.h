// Changes that are planned without a solver: undo, redo, rollback, repair.
#pragma once

#include "cli/session.h"
#include "os/interrupt.h"
#include "txn/transaction.h"

namespace hambrel::cli {

/// The state that such a plan is made from: opened for changing, or with --dry-run for looking. Throws Error{NotFound}
/// where nothing was changed yet.
const state::State& past(Session& session, const Arguments& arguments);

/// What the ledger says of this run beside the outcome.
txn::Account account_of(const Session& session, const Arguments& arguments, const plan::Plan& plan);

/// Shown, agreed to, done or with --prepare made ready, told. Returns the exit code.
int carry_out(Session& session, const Arguments& arguments, txn::Planned planned);

/// The same for what was shown and agreed to already.
void carry_out_agreed(Session& session, const Arguments& arguments, txn::Planned planned);

/// Before anything is fetched: --prepare is refused where something is prepared already; where a change would leave
/// what is prepared behind, that is said.
void weigh_prepared(Session& session, const Arguments& arguments);

/// What the limits of the attic make this change give up: it joins the plan. Before the plan is shown.
void weigh_retention(Session& session, txn::Planned& planned);

/// The transaction itself: nothing is returned where it was only prepared.
std::optional<state::TxnId> hand_over(Session& session, const Arguments& arguments, const txn::Planned& planned,
                                      const txn::Account& account, const os::InterruptGuard& guard);
void tell_outcome(Session& session, const std::optional<state::TxnId>& id, const plan::Plan& plan);

/// --json: that there is nothing to do.
void screen_nothing(Session& session, const plan::Plan& plan);

}  // namespace hambrel::cli
