// The attic as the program shows it: sizes, limits, and giving up its oldest parts.
#include "cli/commands/tidy_attic.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/plan.h"
#include "operations/keeping.h"

namespace hambrel::cli {

std::string size_of(const txn::StandingAttic& one) {
  return one.attic.bytes ? size_text(*one.attic.bytes) : std::string("could not be counted");
}

namespace {

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
  const auto proposal =
      operations::propose_giving_up(session.root(), {arguments.number("keep"), arguments.number("older"), {}});
  const auto& attics = proposal.attics;
  Json list = Json::array();
  Table table;
  for (const txn::StandingAttic& one : attics) {
    const bool goes = proposal.is_given_up(one);
    list.push_back(to_json(one, goes));
    table.row({{goes ? "give up" : "keep", goes ? Style::Go : Style::Faint},
               {std::to_string(number(one.attic.id)), Style::Name, true},
               {time_text(one.attic.time), Style::Faint},
               {state.ledger_entry(one.attic.id)->kind},
               {size_of(one), Style::Plain, true},
               {one.needed_by.empty() ? &one == &attics.back() ? "the last one" : "" : "for " + one.needed_by,
                Style::Faint}});
  }
  const auto answer = [&](const char* result) {
    return Json{{"attic", list}, {"bytes", proposal.bytes}, {"result", result}};
  };
  const bool dry = arguments.has("dry-run");
  if (proposal.goes.empty()) {
    if (session.json()) screen.line(canonical(answer("nothing to do")));
    if (session.json() || session.quiet()) return 0;
    table.print(screen);
    screen.line(attics.empty()
                    ? "Nothing to do: the attic is empty."
                    : "Nothing to do: the attic is within the limits. --keep N and --older DAYS set others.");
    return 0;
  }
  if (session.json() && dry) screen.line(canonical(answer("dry run")));
  if (!session.json() && !(session.quiet() && arguments.has("yes"))) {
    screen.line(fmt::format("{} the attic gives up {} of {} transactions, {}", screen.paint(Style::Strong, "Plan:"),
                            proposal.goes.size(), attics.size(), size_text(proposal.bytes)));
    screen.line();
    table.print(screen);
    screen.line();
    screen.remark(proposal.plan.notices[0].text());
  }
  if (dry) return 0;
  ask_consent(session, arguments);
  const auto id = operations::give_up(session.changed(), proposal, arguments.value("reason").value_or(""));
  if (session.json()) {
    Json object = answer("done");
    object["transaction"] = number(id);
    screen.line(canonical(object));
  } else if (!session.quiet()) {
    screen.line(fmt::format("\n{} as transaction {}: {} given up.", screen.paint(Style::Strong, "Done"), number(id),
                            size_text(proposal.bytes)));
  }
  return 0;
}

}  // namespace hambrel::cli
