// ledger, undo, recover.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/tidy_attic.h"
#include "cli/session.h"
#include "cli/show/plan.h"
#include "cli/show/prepared.h"
#include "operations/supply.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

/// "lampdesk 5.4-1, libbuoy 2.2-1 -> 2.3-1, foghorn 1.0-2 gone and 3 more"
std::string summary_of(const std::vector<state::PackageChange>& changes, std::size_t most) {
  std::vector<std::string> parts;
  for (const state::PackageChange& change : changes) {
    if (parts.size() == most) return fmt::format("{} and {} more", join(parts, ", "), changes.size() - most);
    if (change.before && change.after && change.before_row == change.after_row)
      parts.push_back(fmt::format("{} {}", change.name,
                                  change.after->shelved != change.before->shelved
                                      ? (change.after->shelved ? "shelved" : "back from the shelf")
                                  : change.before->hold == change.after->hold ? text_of(change.after->reason)
                                  : change.after->hold                        ? "held"
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

/// "merge /etc/tidewatch.conf and 2 more"
std::string summary_of(const std::vector<plan::ConfigStep>& configs, std::size_t most) {
  std::vector<std::string> parts;
  for (const plan::ConfigStep& one : configs)
    if (parts.size() < most) parts.push_back(fmt::format("{} /{}", plan::text_of(one.action), one.path));
  return join(parts, ", ") + (configs.size() > most ? fmt::format(" and {} more", configs.size() - most) : "");
}

/// The same for an entry; a repair changes no package, but its plan names those whose files it put back.
std::string summary_of(const state::State& state, const state::LedgerEntry& entry) {
  constexpr std::size_t kMost = 2;
  const auto changes = state.changes_of(entry.id);
  if (changes.empty())
    if (const std::string text = summary_of(plan::configs_of(entry.plan), kMost); !text.empty()) return text;
  if (entry.kind != "repair" || entry.plan.empty()) return summary_of(changes, kMost);
  std::vector<std::string> names;
  const Json plan = parse_json(entry.plan, "ledger");
  const Json steps = plan.value("steps", Json::array());
  for (const Json& step : steps)
    if (names.size() < kMost) names.push_back(step.value("name", ""));
  return "files of " + join(names, ", ") +
         (steps.size() > kMost ? fmt::format(" and {} more", steps.size() - kMost) : "");
}

/// What the options of `ledger` let through.
class Filter {
 public:
  explicit Filter(const Arguments& arguments)
      : package_(arguments.value("package").value_or("")),
        kind_(arguments.value("kind").value_or("")),
        user_(arguments.value("user").value_or("")),
        since_(date(arguments, "since").value_or(INT64_MIN)),
        until_(date(arguments, "until").value_or(INT64_MAX)) {}

  bool passes(const state::State& state, const state::LedgerEntry& entry) const {
    if (!kind_.empty() && entry.kind != kind_) return false;
    if (!user_.empty() && entry.user != user_ && !entry.user.starts_with(user_ + " (")) return false;
    if (entry.started < since_ || entry.started >= until_) return false;
    if (package_.empty()) return true;
    const auto changes = state.changes_of(entry.id);
    return std::any_of(changes.begin(), changes.end(), [&](const auto& one) { return passes(one); });
  }
  bool passes(const state::PackageChange& change) const {
    return package_.empty() || glob_match(package_, change.name);
  }

 private:
  static std::optional<std::int64_t> date(const Arguments& arguments, const std::string& option) {
    const auto given = arguments.value(option);
    if (!given) return std::nullopt;
    const auto parsed = parse_date(*given);
    if (!parsed)
      throw Error(ErrorCode::Usage, fmt::format("--{} {}: a date was expected", option, printable(*given)), {},
                  fmt::format("for example --{} 2030-01-31, where that day (UTC) begins", option));
    return parsed;
  }

  std::string package_, kind_, user_;
  std::int64_t since_, until_;
};

std::uint64_t count_from(const std::string& text, const std::string& what) {
  const auto count = parse_number(text);
  if (!count || *count == 0)
    throw Error(ErrorCode::Usage, fmt::format("{}: a number from 1 on was expected", what), {},
                "`hambrel help ledger` shows examples");
  return *count;
}

/// The newest transactions that pass, at most so many.
std::vector<state::LedgerEntry> entries_of(const state::State* state, const Filter& filter, std::uint64_t most) {
  std::vector<state::LedgerEntry> entries;
  if (state == nullptr) return entries;
  for (state::LedgerEntry& entry : state->ledger(SIZE_MAX >> 1U)) {
    if (entries.size() == most) break;
    if (filter.passes(*state, entry)) entries.push_back(std::move(entry));
  }
  return entries;
}

std::string version_of(const std::optional<state::StatePackage>& one) {
  return one ? one->package.version.text() : std::string("-");
}

/// The packages that changed last, so that the culprit of a broken morning is found at a glance.
int list_packages(Session& session, const Arguments& arguments, std::uint64_t most) {
  const Filter filter(arguments);
  const Screen& screen = session.screen();
  const state::State* const state = session.state();
  Table table;
  std::uint64_t count = 0;
  for (const state::LedgerEntry& entry : entries_of(state, filter, UINT64_MAX)) {
    if (count == most) break;
    if (entry.result != "done") continue;
    for (const state::PackageChange& change : state->changes_of(entry.id)) {
      if (count == most) break;
      const bool same = change.before_row == change.after_row && change.before->shelved == change.after->shelved;
      if (!filter.passes(change) || same) continue;
      ++count;
      if (session.json()) {
        const auto version = [](const auto& one) { return one ? Json(one->package.version.text()) : Json(); };
        screen.line(canonical({{"name", change.name},
                               {"before", version(change.before)},
                               {"after", version(change.after)},
                               {"id", number(entry.id)},
                               {"kind", entry.kind},
                               {"user", entry.user},
                               {"time", utc_text(entry.ended)}}));
        continue;
      }
      table.row({{time_text(entry.ended), Style::Faint},
                 {change.name, Style::Name},
                 {version_of(change.before)},
                 {"->", Style::Faint},
                 {version_of(change.after)},
                 {fmt::format("{} {}", entry.kind, number(entry.id)), Style::Faint},
                 {entry.user, Style::Faint}});
    }
  }
  table.print(screen);
  if (!session.json() && count == 0) screen.line("No package was changed, as far as the ledger tells.");
  return 0;
}

/// Everything, oldest first, a line of JSON each: with the digests, so that the chain can be followed elsewhere.
int export_ledger(Session& session) {
  const state::State* const state = session.state();
  if (state == nullptr) return 0;
  auto entries = state->ledger(SIZE_MAX >> 1U);
  for (auto entry = entries.rbegin(); entry != entries.rend(); ++entry) {
    session.screen().line(state::ledger_text(*entry, state->changes_told(entry->id)));
  }
  return 0;
}

int list_ledger(Session& session, const Arguments& arguments) {
  const std::uint64_t most = count_from(arguments.value("most").value_or("20"), "--most");
  const Screen& screen = session.screen();
  const state::State* const state = session.state();
  const auto entries = entries_of(state, Filter(arguments), most);
  Table table;
  if (const auto prepared = state == nullptr ? std::nullopt : state->prepared()) {
    if (session.json())
      screen.line(canonical({{"prepared", to_json(*prepared)}, {"result", "prepared"}}));
    else
      table.row({{"next", Style::Name, true},
                 {time_text(prepared->time), Style::Faint},
                 {prepared->user},
                 {prepared->kind},
                 {"prepared", Style::Warn},
                 {fmt::format("{}, {} staged; `{}`", prepared_text(*prepared), size_text(prepared->staged),
                              session.copyable("hambrel activate"))}});
  }
  for (const state::LedgerEntry& entry : entries) {
    if (session.json()) {
      screen.line(canonical(state::ledger_json(entry)));
      continue;
    }
    const bool done = entry.result == "done";
    const std::string what = done ? summary_of(*state, entry) : entry.problem;
    auto by = done ? state->undone_by(entry.id) : std::nullopt;
    if (by && state->undone_by(*by)) by.reset();
    const bool given_up = done && !by && state->given_up(entry.id);
    table.row({{fmt::format("{}", number(entry.id)), Style::Name, true},
               {time_text(entry.started), Style::Faint},
               {entry.user},
               {entry.kind == "undo" ? fmt::format("undo {}", number(*entry.undo_of)) : entry.kind},
               {by         ? fmt::format("undone by {}", number(*by))
                : given_up ? std::string("done for good")
                           : entry.result,
                by     ? Style::Faint
                : done ? Style::Plain
                       : Style::Warn},
               {printable(what)}});
  }
  table.print(screen);
  if (!session.json() && entries.empty())
    screen.line(state == nullptr || state->ledger(1).empty()
                    ? "The ledger is empty: nothing was changed in this root yet."
                    : "No transaction meets these conditions.");
  return 0;
}

/// ", held: the gauge driver needs it", where that is new.
std::string held_since(const state::PackageChange& change) {
  if (!change.after || !change.after->hold || (change.before && change.before->hold == change.after->hold)) return {};
  return change.after->hold->reason.empty() ? ", held" : ", held: " + change.after->hold->reason;
}

/// What undo has of it.
std::string attic_text(Session& session, const state::State& state, state::TxnId id) {
  if (const auto by = state.given_up(id)) return fmt::format("given up by transaction {}", number(*by));
  for (const txn::StandingAttic& one : operations::standing_attics(session.root()))
    if (one.attic.id == id) return size_of(one) + (one.needed_by.empty() ? "" : ", needed by " + one.needed_by);
  return {};
}

/// What the plan had told of files: which configuration was kept, put aside, or taken along.
std::vector<std::string> notices_of(const state::LedgerEntry& entry) {
  std::vector<std::string> notices;
  if (entry.plan.empty()) return notices;
  const Json plan = parse_json(entry.plan, "ledger");
  for (const Json& notice : plan.value("notices", Json::array())) notices.push_back(notice.value("text", ""));
  return notices;
}

int show_entry(Session& session, state::TxnId id) {
  const state::State* const state = session.state();
  const auto entry = state == nullptr ? std::nullopt : state->ledger_entry(id);
  if (!entry)
    throw Error(ErrorCode::NotFound, fmt::format("the ledger has no transaction {}", number(id)), {},
                "`hambrel ledger` lists them");
  const auto changes = state->changes_of(id);
  const Screen& screen = session.screen();
  if (session.json()) {
    Json object = state::ledger_json(*entry);
    object["plan"] = entry->plan.empty() ? Json() : parse_json(entry->plan, "ledger");
    Json list = Json::array();
    for (const state::PackageChange& change : changes) {
      list.push_back({{"name", change.name},
                      {"before", state::side_json(change.before)},
                      {"after", state::side_json(change.after)}});
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
  field("took",
        entry->ended == entry->started ? "less than a second" : fmt::format("{} s", entry->ended - entry->started));
  field("user", entry->user);
  field("command", entry->command);
  field("reason", entry->note);
  field("problem", entry->problem);
  field("fetched", entry->downloaded > 0 ? size_text(entry->downloaded) : "");
  if (entry->undo_of) field("takes back", fmt::format("transaction {}", number(*entry->undo_of)));
  if (const auto by = state->undone_by(id)) field("taken back", fmt::format("by transaction {}", number(*by)));
  field("attic", attic_text(session, *state, id));
  field("digest", entry->digest.hex());
  for (const std::string& notice : notices_of(*entry)) field("note", notice);
  if (const auto configs = plan::configs_of(entry->plan); !configs.empty()) {
    screen.line();
    print_configs(screen, configs);
  }
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
    table.row({{change.name, Style::Name},
               {version_of(change.before)},
               {"->", Style::Faint},
               {version_of(change.after)},
               {printable(whys[change.name] + held_since(change))},
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
  if (words[0] == "packages" && words.size() <= 2)
    return list_packages(session, arguments, words.size() == 2 ? count_from(words[1], printable(words[1])) : 20);
  if (words[0] == "export" && words.size() == 1) return export_ledger(session);
  throw Error(ErrorCode::Usage, fmt::format("`hambrel ledger {}` is not known", printable(join(words, " "))), {},
              "there are `hambrel ledger`, `ledger show N`, `ledger packages [COUNT]` and `ledger export`");
}

}  // namespace hambrel::cli
