#include "cli/apart.h"

#include <fmt/format.h>

#include "base/json.h"
#include "cli/plan_view.h"
#include "os/host.h"

namespace hambrel::cli {

const state::State& past(Session& session, const Arguments& arguments) {
  require_consent_possible(session, arguments);
  const state::State* const state = arguments.has("dry-run") ? session.looking() : &session.changing(arguments);
  if (state == nullptr)
    throw Error(ErrorCode::NotFound, "nothing was changed in this root yet", session.root_path(),
                "`hambrel ledger` lists what was done");
  return *state;
}

txn::Account account_of(const Session& session, const Arguments& arguments, const plan::Plan& plan) {
  txn::Account account;
  account.kind = plan.kind;
  account.command = session.command_line();
  account.user = os::user_name();
  account.note = arguments.value("reason").value_or("");
  account.plan = canonical(to_json(plan));
  return account;
}

int carry_out(Session& session, const Arguments& arguments, const plan::Plan& plan,
              const std::optional<state::TxnId>& undo_of,
              const std::function<state::TxnId(txn::Engine&, const txn::Account&)>& switch_to) {
  const bool dry = arguments.has("dry-run");
  if (session.json() && dry) session.screen().line(canonical({{"plan", to_json(plan)}, {"result", "dry run"}}));
  if (!session.json() && !(session.quiet() && arguments.has("yes"))) print_plan(session, plan);
  if (dry) return 0;
  ask_consent(session, arguments);
  txn::Account account = account_of(session, arguments, plan);
  account.undo_of = undo_of;
  const os::InterruptGuard guard;
  txn::Engine engine(session.environment(&guard));
  const state::TxnId done = switch_to(engine, account);
  tell_if_too_late(session, guard);
  tell_done(session, done, plan);
  return 0;
}

void screen_nothing(Session& session, const plan::Plan& plan) {
  session.screen().line(canonical({{"plan", to_json(plan)}, {"result", "nothing to do"}}));
}

}  // namespace hambrel::cli
