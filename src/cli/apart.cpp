#include "cli/apart.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/json.h"
#include "base/text.h"
#include "cli/attic.h"
#include "cli/cache.h"
#include "cli/plan_view.h"
#include "os/host.h"

namespace hambrel::cli {

const state::State& past(Session& session, const Arguments& arguments) {
  const bool only_looks = arguments.has("dry-run") || !is_consent_possible(session, arguments);
  const state::State* const state = only_looks ? session.looking() : &session.changing(arguments);
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

void weigh_prepared(Session& session, const Arguments& arguments) {
  const state::State* const state = session.present();
  const auto standing = state == nullptr ? std::nullopt : state->prepared();
  if (!standing) return;
  const std::string what = fmt::format("`{}`, {}", printable(standing->command), time_text(standing->time));
  if (arguments.has("prepare"))
    throw Error(ErrorCode::Refused, "something is prepared already: " + what, {},
                fmt::format("`{}` switches to it, `{}` drops it", session.copyable("hambrel activate"),
                            session.copyable("hambrel activate --discard")));
  if (!session.json() && !session.quiet())
    session.screen().remark(fmt::format("what is prepared ({}) can't be activated any more after this", what));
}

std::optional<state::TxnId> hand_over(Session& session, const Arguments& arguments, const txn::Planned& planned,
                                      const txn::Account& account, const os::InterruptGuard& guard) {
  txn::Engine engine(session.environment(&guard));
  if (arguments.has("prepare")) {
    engine.prepare(planned, account);
    return std::nullopt;
  }
  const state::TxnId id = engine.run(planned, account);
  tell_if_too_late(session, guard);
  return id;
}

void tell_outcome(Session& session, const std::optional<state::TxnId>& id, const plan::Plan& plan) {
  if (id) {
    tell_done(session, *id, plan);
    if (plan.download() > 0) keep_cache_small(session);
    return;
  }
  const auto prepared = session.present()->prepared();
  if (session.json())
    session.screen().line(canonical({{"plan", to_json(plan)}, {"result", "prepared"}, {"staged", prepared->staged}}));
  else if (!session.quiet())
    session.screen().line(
        fmt::format("\n{}, {} staged; nothing of the running system was changed. `{}` switches, `{}` drops it.",
                    session.screen().paint(Style::Strong, "Prepared"), size_text(prepared->staged),
                    session.copyable("hambrel activate"), session.copyable("hambrel activate --discard")));
}

void weigh_retention(Session& session, txn::Planned& planned) {
  const state::State* const state = session.present();
  if (state == nullptr || (planned.tree.moves.empty() && planned.moves.empty())) return;
  const auto attics = standing_attics(session, *state);
  planned.gives_up = txn::beyond(limits_of(session, *state), attics, planned.attic.empty() ? 1 : 0);
  std::erase_if(planned.gives_up, [&](state::TxnId id) {  // an undo takes its files from there
    return planned.attic == fmt::format("{}/{}", txn::kAttic, number(id));
  });
  if (!planned.gives_up.empty()) planned.plan.notices.push_back(txn::notice_of(planned.gives_up));
}

namespace {

/// Going back changes held packages, too, as it must be exact: that is said, and with --yes each has to be named.
void weigh_holds(Session& session, const Arguments& arguments, txn::Planned& planned) {
  std::set<std::string> named;
  for (const std::string& given : arguments.values("release")) named.insert(given);
  for (const state::PackageChange& change : planned.changes) {
    if (!change.before_row || change.before_row == change.after_row) continue;
    const auto now = session.present()->package(*change.before_row).hold;
    if (!now) continue;
    const bool came_with_it = planned.undo_of && change.before->hold && change.before->hold->since == now->since;
    if (came_with_it) continue;
    const Hold& hold = *now;
    if ((hold.until != 0 && hold.until <= os::now()) || named.contains(change.name)) continue;
    const std::string why = hold.reason.empty() ? "" : ": " + printable(hold.reason);
    if (arguments.has("yes"))
      throw Error(ErrorCode::Refused, fmt::format("{} is held{}, and this would change it", change.name, why), {},
                  fmt::format("name it to change it all the same: --release {}", change.name));
    if (!session.json())
      session.screen().remark(fmt::format("{} is held{}; this changes it all the same", change.name, why));
  }
}

}  // namespace

int carry_out(Session& session, const Arguments& arguments, txn::Planned planned) {
  weigh_retention(session, planned);
  const plan::Plan& plan = planned.plan;
  const bool dry = arguments.has("dry-run");
  if (session.json() && dry) session.screen().line(canonical({{"plan", to_json(plan)}, {"result", "dry run"}}));
  if (!session.json() && !(session.quiet() && arguments.has("yes"))) print_plan(session, plan);
  weigh_prepared(session, arguments);
  weigh_holds(session, arguments, planned);
  if (dry) return 0;
  ask_consent(session, arguments);
  carry_out_agreed(session, arguments, std::move(planned));
  return 0;
}

void carry_out_agreed(Session& session, const Arguments& arguments, txn::Planned planned) {
  txn::Account account = account_of(session, arguments, planned.plan);
  account.downloaded = planned.plan.download();
  const os::InterruptGuard guard;
  tell_outcome(session, hand_over(session, arguments, planned, account, guard), planned.plan);
}

void screen_nothing(Session& session, const plan::Plan& plan) {
  session.screen().line(canonical({{"plan", to_json(plan)}, {"result", "nothing to do"}}));
}

}  // namespace hambrel::cli
