// ledger, undo, recover.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/apart.h"
#include "cli/plan_view.h"
#include "cli/session.h"
#include "os/host.h"
#include "txn/rollback.h"
#include "txn/undo.h"

namespace hambrel::cli {

namespace {

state::TxnId parse_id(const std::string& text) {
  const auto value = parse_number(text);
  if (!value || *value == 0 || *value > INT64_MAX)
    throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not the number of a transaction", printable(text)), {},
                "`hambrel ledger` shows the numbers");
  return state::TxnId{static_cast<std::int64_t>(*value)};
}

Json entry_json(const state::LedgerEntry& entry) {
  Json object = {{"id", number(entry.id)},
                 {"started", utc_text(entry.started)},
                 {"ended", utc_text(entry.ended)},
                 {"user", entry.user},
                 {"command", entry.command},
                 {"kind", entry.kind},
                 {"reason", entry.note},
                 {"result", entry.result},
                 {"problem", entry.problem},
                 {"downloaded", entry.downloaded},
                 {"previous", entry.previous.hex()},
                 {"digest", entry.digest.hex()}};
  if (entry.undo_of) object["undo_of"] = number(*entry.undo_of);
  return object;
}

/// "lampdesk 5.4-1, libbuoy 2.2-1 -> 2.3-1, foghorn 1.0-2 gone and 3 more"
std::string summary_of(const std::vector<state::PackageChange>& changes, std::size_t most) {
  std::vector<std::string> parts;
  for (const state::PackageChange& change : changes) {
    if (parts.size() == most) return fmt::format("{} and {} more", join(parts, ", "), changes.size() - most);
    if (change.before && change.after && change.before_row == change.after_row)
      parts.push_back(fmt::format("{} {}", change.name,
                                  change.before->hold == change.after->hold ? text_of(change.after->reason)
                                  : change.after->hold                      ? "held"
                                                                            : "released"));
    else if (change.before && change.after)
      parts.push_back(fmt::format("{} {} -> {}", change.name, change.before->package.version.text(),
                                  change.after->package.version.text()));
    else if (change.after)
      parts.push_back(fmt::format("{} {}", change.name, change.after->package.version.text()));
    else if (change.before)
      parts.push_back(fmt::format("{} {} gone", change.name, change.before->package.version.text()));
  }
  return join(parts, ", ");
}

int list_ledger(Session& session, const Arguments& arguments) {
  const std::string most_text = arguments.value("most").value_or("20");
  const auto most = parse_number(most_text);
  if (!most || *most == 0)
    throw Error(ErrorCode::Usage, fmt::format("--most {}: a number was expected", printable(most_text)));
  const Screen& screen = session.screen();
  const state::State* const state = session.looking();
  const auto entries = state == nullptr ? std::vector<state::LedgerEntry>() : state->ledger(*most);
  Table table;
  for (const state::LedgerEntry& entry : entries) {
    if (session.json()) {
      screen.line(canonical(entry_json(entry)));
      continue;
    }
    const bool done = entry.result == "done";
    const std::string what = done ? summary_of(state->changes_of(entry.id), 2) : entry.problem;
    auto by = done ? state->undone_by(entry.id) : std::nullopt;
    if (by && state->undone_by(*by)) by.reset();
    table.row({{fmt::format("{}", number(entry.id)), Style::Name, true},
               {time_text(entry.started), Style::Faint},
               {entry.user},
               {entry.undo_of ? fmt::format("undo {}", number(*entry.undo_of)) : entry.kind},
               {by ? fmt::format("undone by {}", number(*by)) : entry.result, by     ? Style::Faint
                                                                              : done ? Style::Plain
                                                                                     : Style::Warn},
               {printable(what)}});
  }
  table.print(screen);
  if (!session.json() && entries.empty()) screen.line("The ledger is empty: nothing was changed in this root yet.");
  return 0;
}

int show_entry(Session& session, state::TxnId id) {
  const state::State* const state = session.looking();
  const auto entry = state == nullptr ? std::nullopt : state->ledger_entry(id);
  if (!entry)
    throw Error(ErrorCode::NotFound, fmt::format("the ledger has no transaction {}", number(id)), {},
                "`hambrel ledger` lists them");
  const auto changes = state->changes_of(id);
  const Screen& screen = session.screen();
  if (session.json()) {
    Json object = entry_json(*entry);
    object["plan"] = entry->plan.empty() ? Json() : parse_json(entry->plan, "ledger");
    Json list = Json::array();
    for (const state::PackageChange& change : changes) {
      const auto side = [](const std::optional<state::StatePackage>& one) {
        return one ? Json{{"version", one->package.version.text()},
                          {"reason", text_of(one->reason)},
                          {"origin", one->origin}}
                   : Json();
      };
      list.push_back({{"name", change.name}, {"before", side(change.before)}, {"after", side(change.after)}});
    }
    object["changes"] = std::move(list);
    screen.line(canonical(object));
    return 0;
  }
  const auto field = [&](const char* label, const std::string& text) {
    if (!text.empty()) screen.line("  " + screen.paint(Style::Faint, fmt::format("{:<12}", label)) + printable(text));
  };
  screen.line(fmt::format("{}  {}, {}", screen.paint(Style::Name, fmt::format("Transaction {}", number(id))),
                          entry->kind, entry->result));
  field("started", time_text(entry->started));
  field("took", fmt::format("{} s", entry->ended - entry->started));
  field("user", entry->user);
  field("command", entry->command);
  field("reason", entry->note);
  field("problem", entry->problem);
  field("fetched", entry->downloaded > 0 ? size_text(entry->downloaded) : "");
  if (entry->undo_of) field("takes back", fmt::format("transaction {}", number(*entry->undo_of)));
  if (const auto by = state->undone_by(id)) field("taken back", fmt::format("by transaction {}", number(*by)));
  field("digest", entry->digest.hex());
  if (changes.empty()) return 0;
  screen.line();
  std::map<std::string, std::string> whys;  // as the plan told it then
  if (!entry->plan.empty()) {
    const Json plan = parse_json(entry->plan, "ledger");
    for (const Json& step : plan.value("steps", Json::array()))
      whys[step.value("name", "")] = step.contains("why") ? step["why"].value("text", "") : "";
  }
  Table table;
  for (const state::PackageChange& change : changes) {
    const auto version = [](const std::optional<state::StatePackage>& one) {
      return one ? one->package.version.text() : std::string("-");
    };
    table.row({{change.name, Style::Name},
               {version(change.before)},
               {"->", Style::Faint},
               {version(change.after)},
               {printable(whys[change.name])},
               {change.after ? change.after->origin : change.before->origin, Style::Faint}});
  }
  table.print(screen);
  return 0;
}

}  // namespace

int run_ledger(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  if (words.empty()) return list_ledger(session, arguments);
  if (words[0] == "show" && words.size() == 2) return show_entry(session, parse_id(words[1]));
  throw Error(ErrorCode::Usage, fmt::format("`hambrel ledger {}` is not known", printable(join(words, " "))), {},
              "there are `hambrel ledger` and `hambrel ledger show N`");
}

namespace {

int undo(Session& session, const Arguments& arguments, const state::State& state, state::TxnId id) {
  const txn::UndoPlan undo = txn::plan_undo(session.root(), state, id);
  return carry_out(session, arguments, undo.plan, id, [&](txn::Engine& engine, const txn::Account& account) {
    return engine.run_moves(undo.directory, undo.moves, undo.restore, undo.changes, account);
  });
}

}  // namespace

int run_undo(Session& session, const Arguments& arguments) {
  const state::TxnId id = parse_id(arguments.words()[0]);
  return undo(session, arguments, past(session, arguments), id);
}

int run_redo(Session& session, const Arguments& arguments) {
  const state::TxnId id = parse_id(arguments.words()[0]);
  const state::State& state = past(session, arguments);
  const auto refuse = [&](const std::string& what, const std::string& hint) {
    throw Error(ErrorCode::Refused, what, fmt::format("transaction {}", number(id)), hint);
  };
  if (!state.ledger_entry(id))
    throw Error(ErrorCode::NotFound, fmt::format("the ledger has no transaction {}", number(id)), {},
                "`hambrel ledger` lists them");
  const auto by = state.undone_by(id);
  if (!by) refuse("it was not taken back, so there is nothing to do again", "`hambrel ledger` shows what was undone");
  if (const auto again = state.undone_by(*by))
    refuse(fmt::format("it was done again already, by transaction {}", number(*again)),
           fmt::format("to take it back: hambrel undo {}", number(*again)));
  return undo(session, arguments, state, *by);
}

int run_rollback(Session& session, const Arguments& arguments) {
  const state::TxnId to = parse_id(arguments.words()[0]);
  const state::State& state = past(session, arguments);
  const txn::RollbackPlan back = txn::plan_rollback(session.root(), state, to, os::processors());
  if (back.plan.steps.empty()) {
    if (session.json())
      screen_nothing(session, back.plan);
    else if (!session.quiet())
      session.screen().line(
          fmt::format("Nothing to do: the packages are as they were after transaction {}.", number(to)));
    return 0;
  }
  return carry_out(session, arguments, back.plan, std::nullopt, [&](txn::Engine& engine, const txn::Account& account) {
    return engine.run(back.tree, back.sources, back.changes, account, back.restore);
  });
}

int run_recover(Session& session, const Arguments& arguments) {
  session.changing(arguments);
  if (!session.recovered() && !session.quiet())
    session.screen().line("Nothing to recover: no transaction stands interrupted.");
  return 0;
}

}  // namespace hambrel::cli
