// undo, redo, rollback and recover.
#include "operations/going_back.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"

namespace hambrel::cli {

int run_undo(Session& session, const Arguments& arguments) {
  const state::TxnId id = parse_id(arguments.words()[0]);
  open_for(session, arguments);
  return carry_out(session, arguments, operations::propose_undo(session.root(), id, planned_terms(arguments)));
}

int run_redo(Session& session, const Arguments& arguments) {
  const state::TxnId id = parse_id(arguments.words()[0]);
  open_for(session, arguments);
  return carry_out(session, arguments, operations::propose_redo(session.root(), id, planned_terms(arguments)));
}

int run_rollback(Session& session, const Arguments& arguments) {
  const operations::RollbackRequest request{arguments.words()[0], planned_terms(arguments)};
  open_for(session, arguments);
  session.tell_of_unusable_repositories();
  auto back = operations::propose(session.root(), request);
  if (!back->does_nothing()) return carry_out(session, arguments, std::move(back));
  if (session.json()) return show_nothing(session, back->plan());
  if (!session.quiet())
    session.screen().line(
        operations::is_checkpoint(session.root(), request.to)
            ? fmt::format("Nothing to do: all is as it was at the checkpoint {}.", request.to)
            : fmt::format("Nothing to do: the packages are as they were after transaction {}; configuration that was "
                          "edited since stays as it is.",
                          request.to));
  for (const plan::Notice& notice : back->plan().notices) session.screen().remark(printable(notice.text()));
  return 0;
}

int run_recover(Session& session, const Arguments& arguments) {
  session.change(arguments);
  if (session.json())
    session.screen().line(canonical({{"recovered", session.changed().recovered().has_value()}}));
  else if (!session.changed().recovered().has_value() && !session.quiet())
    session.screen().line("Nothing to recover: no transaction stands interrupted.");
  return 0;
}

}  // namespace hambrel::cli
