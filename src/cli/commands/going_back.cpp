// undo, redo, rollback and recover.
#include "operations/going_back.h"

#include "base/json.h"
#include "cli/carry.h"
#include "operations/ledger.h"

namespace hambrel::cli {

int run_undo(Session& session, const Arguments& arguments) {
  open_for(session, arguments);
  const auto id = operations::transaction_named(session.root(), arguments.words()[0], true);
  return carry_out(session, arguments, operations::propose_undo(session.root(), id, planned_terms(arguments)));
}

int run_redo(Session& session, const Arguments& arguments) {
  open_for(session, arguments);
  const auto id = operations::transaction_named(session.root(), arguments.words()[0], true);
  return carry_out(session, arguments, operations::propose_redo(session.root(), id, planned_terms(arguments)));
}

int run_rollback(Session& session, const Arguments& arguments) {
  const operations::RollbackRequest request{arguments.words()[0], planned_terms(arguments)};
  open_for(session, arguments);
  session.tell_of_unusable_repositories();
  return carry_out(session, arguments, operations::propose(session.root(), request));
}

int run_recover(Session& session, const Arguments& arguments) {
  const bool recovered = session.change(arguments).recovered().has_value();
  if (session.json() || !recovered)  // else it was told already
    session.say({{"recovered", recovered}}, "Nothing to recover: no transaction was interrupted.");
  return 0;
}

}  // namespace hambrel::cli
