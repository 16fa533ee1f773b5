// The attic as the program shows it: sizes, limits, and giving up its oldest parts.
#include "cli/attic.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/plan_view.h"
#include "os/host.h"

namespace hambrel::cli {

std::string size_of(const txn::StandingAttic& one) {
  return one.attic.bytes ? size_text(*one.attic.bytes) : std::string("could not be counted");
}

namespace {

txn::Limits wanted_limits(Session& session, const Arguments& arguments) {
  txn::Limits limits;
  limits.transactions = arguments.number("keep");
  limits.days = arguments.number("older");
  if (!limits.transactions && !limits.days) return operations::attic_limits(session.root());
  operations::drop_age_in_doubt(session.root(), limits);
  return limits;
}

Json to_json(const txn::StandingAttic& one, bool goes) {
  Json object = {{"id", number(one.attic.id)},
                 {"bytes", one.attic.bytes.value_or(0)},
                 {"time", utc_text(one.attic.time)},
                 {"given_up", goes}};
  if (!one.needed_by.empty()) object["needed_by"] = one.needed_by;
  return object;
}

}  // namespace

int tidy_attic(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
  open_for(session, arguments);
  const state::State& state = operations::require_state(session.root());
  const auto attics = operations::standing_attics(session.root());
  const auto chosen = txn::beyond(wanted_limits(session, arguments), attics, 0);
  const auto goes = [&](const txn::StandingAttic& one) {
    return std::find(chosen.begin(), chosen.end(), one.attic.id) != chosen.end();
  };
  ByteCount bytes = 0;
  Json list = Json::array();
  Table table;
  for (const txn::StandingAttic& one : attics) {
    if (goes(one)) bytes += one.attic.bytes.value_or(0);
    list.push_back(to_json(one, goes(one)));
    table.row({{goes(one) ? "give up" : "keep", goes(one) ? Style::Go : Style::Faint},
               {std::to_string(number(one.attic.id)), Style::Name, true},
               {time_text(one.attic.time), Style::Faint},
               {state.ledger_entry(one.attic.id)->kind},
               {size_of(one), Style::Plain, true},
               {one.needed_by.empty() ? &one == &attics.back() ? "the last one" : "" : "for " + one.needed_by,
                Style::Faint}});
  }
  plan::Plan plan;
  plan.kind = state::kGivingUp;
  if (!chosen.empty()) plan.notices.push_back(txn::notice_of(chosen));
  const auto answer = [&](const char* result) { return Json{{"attic", list}, {"bytes", bytes}, {"result", result}}; };
  const bool dry = arguments.has("dry-run");
  if (chosen.empty()) {
    if (session.json()) return screen.line(canonical(answer("nothing to do"))), 0;
    if (session.quiet()) return 0;
    table.print(screen);
    screen.line(attics.empty()
                    ? "Nothing to do: the attic is empty."
                    : "Nothing to do: the attic is within the limits. --keep N and --older DAYS set others.");
    return 0;
  }
  if (session.json() && dry) screen.line(canonical(answer("dry run")));
  if (!session.json() && !(session.quiet() && arguments.has("yes"))) {
    screen.line(fmt::format("{} the attic gives up {} of {} transactions, {}", screen.paint(Style::Strong, "Plan:"),
                            chosen.size(), attics.size(), size_text(bytes)));
    screen.line();
    table.print(screen);
    screen.line();
    screen.remark(plan.notices[0].text());
  }
  if (dry) return 0;
  ask_consent(session, arguments);
  txn::Account account = operations::account_of(session.root(), plan, arguments.value("reason").value_or(""));
  const state::TxnId id = txn::Engine(session.changed().environment()).give_up(chosen, account);
  if (session.json()) {
    Json object = answer("done");
    object["transaction"] = number(id);
    screen.line(canonical(object));
  } else if (!session.quiet()) {
    screen.line(fmt::format("\n{} as transaction {}: {} given up.", screen.paint(Style::Strong, "Done"), number(id),
                            size_text(bytes)));
  }
  return 0;
}

}  // namespace hambrel::cli
