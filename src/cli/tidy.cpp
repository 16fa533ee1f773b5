// tidy: what could be freed, by area, and freeing it.
#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/apart.h"
#include "cli/attic.h"
#include "cli/plan_view.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

struct Area {
  std::string name, holds, command;
  std::size_t count = 0;
  ByteCount bytes = 0;  // that the command would free; for the prepared: that it takes
};

std::vector<Area> areas_of(Session& session, const state::State& state) {
  std::vector<Area> areas;
  const auto attics = standing_attics(session, state);
  Area attic{"attic", "nothing can be taken back", ""};
  ByteCount free = 0;
  for (const txn::StandingAttic& one : attics) attic.count += 1, attic.bytes += one.attic.bytes.value_or(0);
  const auto all = txn::beyond({0, {}, {}}, attics, 0, os::now());
  for (const txn::StandingAttic& one : attics)
    if (std::find(all.begin(), all.end(), one.attic.id) != all.end()) free += one.attic.bytes.value_or(0);
  if (!attics.empty()) attic.holds = fmt::format("undo back to transaction {}", number(attics.front().attic.id));
  if (!all.empty()) attic.command = fmt::format("hambrel tidy attic --keep N   (up to {})", size_text(free));
  areas.push_back(attic);
  Area checkpoints{"checkpoints", "configuration of named moments", ""};
  for (const state::Checkpoint& one : state.checkpoints()) {
    ++checkpoints.count;
    for (const state::CheckpointFile& file : one.files) checkpoints.bytes += file.size;
    checkpoints.command = "hambrel checkpoint drop NAME";
  }
  areas.push_back(checkpoints);
  if (const auto prepared = state.prepared())
    areas.push_back({"prepared", "waits for `hambrel activate`", "hambrel activate --discard", 1, prepared->staged});
  return areas;
}

int overview(Session& session) {
  const Screen& screen = session.screen();
  const state::State* const state = session.looking();
  const auto areas = state == nullptr ? std::vector<Area>() : areas_of(session, *state);
  Table table;
  for (const Area& one : areas) {
    if (session.json()) {
      screen.line(canonical({{"area", one.name}, {"count", one.count}, {"bytes", one.bytes}}));
      continue;
    }
    table.row({{one.name, Style::Name},
               {std::to_string(one.count), Style::Plain, true},
               {size_text(one.bytes), Style::Plain, true},
               {one.holds},
               {one.command.empty() ? std::string() : session.copyable(one.command), Style::Faint}});
  }
  table.print(screen);
  if (!session.json() && areas.empty()) screen.line("Nothing to tidy: nothing was installed in this root yet.");
  return 0;
}

std::optional<std::uint64_t> number_of(const Arguments& arguments, const char* option) {
  const auto given = arguments.value(option);
  if (!given) return std::nullopt;
  const auto value = parse_number(*given);
  if (!value)
    throw Error(ErrorCode::Usage, fmt::format("--{} {}: a number was expected", option, printable(*given)), {},
                fmt::format("for example --{} 10", option));
  return value;
}

txn::Limits wanted_limits(Session& session, const Arguments& arguments) {
  txn::Limits limits;
  limits.transactions = number_of(arguments, "keep");
  limits.days = number_of(arguments, "older");
  if (limits.transactions || limits.days) return limits;
  return limits_of(session.settings());
}

Json to_json(const txn::StandingAttic& one, bool goes) {
  Json object = {{"id", number(one.attic.id)},
                 {"bytes", one.attic.bytes.value_or(0)},
                 {"time", utc_text(one.attic.time)},
                 {"given_up", goes}};
  if (!one.needed_by.empty()) object["needed_by"] = one.needed_by;
  return object;
}

int tidy_attic(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
  const state::State& state = past(session, arguments);
  const auto attics = standing_attics(session, state);
  const auto chosen = txn::beyond(wanted_limits(session, arguments), attics, 0, os::now());
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
  txn::Account account = account_of(session, arguments, plan);
  const state::TxnId id = txn::Engine(session.environment()).give_up(chosen, account);
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

}  // namespace

int run_tidy(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  if (words.empty()) return overview(session);
  if (words[0] == "attic") return tidy_attic(session, arguments);
  throw Error(ErrorCode::Usage, fmt::format("`hambrel tidy {}` is not known", printable(words[0])), {},
              "there are `hambrel tidy` and `hambrel tidy attic`");
}

}  // namespace hambrel::cli
