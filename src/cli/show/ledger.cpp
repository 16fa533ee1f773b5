#include "cli/show/ledger.h"

#include <fmt/format.h>

#include <map>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/acting.h"
#include "cli/show/plan.h"
#include "cli/show/prepared.h"
#include "cli/show/rows.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

namespace {

using operations::LedgerEntry;
using operations::LedgerLine;
using operations::PackageChange;
using operations::StatePackage;

std::string version_of(const std::optional<StatePackage>& one) {
  return one ? one->package.version.text() : std::string("-");
}

/// "lampdesk 5.4-1", "libbuoy 2.2-1 -> 2.3-1", "foghorn 1.0-2 gone", "foghorn held"
std::string text_of(const PackageChange& change) {
  if (!change.before) return fmt::format("{} {}", change.name, version_of(change.after));
  if (!change.after) return fmt::format("{} {} gone", change.name, version_of(change.before));
  if (change.before_row != change.after_row)
    return fmt::format("{} {} -> {}", change.name, version_of(change.before), version_of(change.after));
  const char* word = change.after->hold ? "held" : "released";
  if (change.after->shelved != change.before->shelved)
    word = change.after->shelved ? "shelved" : "unshelved";
  else if (change.before->hold == change.after->hold)
    return fmt::format("{} {}", change.name, text_of(change.after->reason));
  return fmt::format("{} {}", change.name, word);
}

/// The first few, and how many more there are.
template <typename Items, typename Text>
std::string some_of(const Items& items, const Text& text) {
  constexpr std::size_t kMost = 2;
  std::vector<std::string> parts;
  for (const auto& one : items)
    if (parts.size() < kMost) parts.push_back(text(one));
  return join(parts, ", ") + (items.size() > kMost ? fmt::format(" and {} more", items.size() - kMost) : "");
}

/// What changed: packages, else configuration; a repair changes no package, but its plan names those whose files it put
/// back.
std::string summary_of(const LedgerLine& line) {
  if (!line.changes.empty()) return some_of(line.changes, [](const PackageChange& one) { return text_of(one); });
  if (!line.plan.configs.empty())
    return some_of(line.plan.configs, [](const plan::ConfigStep& one) {
      return fmt::format("{} /{}", plan::text_of(one.action), one.path);
    });
  if (!line.plan.follows.empty())
    return some_of(line.plan.follows, [](const plan::FollowStep& one) {
      return fmt::format("{} follows {}", one.name, one.after.empty() ? "the default" : one.after);
    });
  if (line.entry.kind != "repair" || line.plan.steps.empty()) return {};
  return "files of " + some_of(line.plan.steps, [](const plan::Step& one) { return one.name; });
}

constexpr std::size_t kMostOfProblem = 72;  // columns; `ledger show` has all of it

std::string kind_of(const LedgerLine& line) {
  if (line.undoes) return fmt::format("undo {}", number(*line.undoes));
  return line.redoes ? fmt::format("redo {}", number(*line.redoes)) : line.entry.kind;
}

Json entry_to_json(const LedgerEntry& entry) {
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

Json side_to_json(const std::optional<StatePackage>& one) {
  if (!one) return {};
  Json side = {{"version", one->package.version.text()},
               {"arch", one->package.arch},
               {"reason", text_of(one->reason)},
               {"origin", one->origin},
               {"digest", one->digest.hex()},
               {"time", one->time}};
  if (one->shelved) side["shelved"] = true;
  if (one->hold)
    side["hold"] = {{"since", one->hold->since},
                    {"until", one->hold->until},
                    {"reason", one->hold->reason},
                    {"user", one->hold->user}};
  return side;
}

/// ", held: the gauge driver needs it", where that is new.
std::string held_since(const PackageChange& change) {
  if (!change.after || !change.after->hold || (change.before && change.before->hold == change.after->hold)) return {};
  return change.after->hold->reason.empty() ? ", held" : ", held: " + change.after->hold->reason;
}

/// What undo has of it.
std::string attic_text(const operations::LedgerDetail& detail) {
  if (detail.given_up_by) return fmt::format("dropped by transaction {}", number(*detail.given_up_by));
  if (!detail.attic) return {};
  return size_of(*detail.attic) + (detail.attic->needed_by.empty() ? "" : ", needed by " + detail.attic->needed_by);
}

/// Who vouched for what came: a line for each repository, and each key of package files.
void print_vouchers(const Screen& screen, const plan::Plan& plan) {
  std::vector<std::string> lines;
  for (const plan::Step& step : plan.steps) {
    if (!step.voucher || step.voucher->is_nobody()) continue;
    const std::string line = vouched_text(*step.voucher, step.origin);
    if (std::find(lines.begin(), lines.end(), line) == lines.end()) lines.push_back(line);
  }
  for (std::size_t i = 0; i < lines.size(); ++i) screen.field(i == 0 ? "vouched" : "", lines[i]);
}

void print_fields(const Screen& screen, const operations::LedgerDetail& detail) {
  const LedgerEntry& entry = detail.entry;
  const auto field = [&](const char* label, const std::string& text) { screen.field(label, text); };
  screen.line(fmt::format("{}  {}, {}", screen.paint(Style::Name, fmt::format("Transaction {}", number(entry.id))),
                          entry.kind, entry.result));
  field("started", time_text(entry.started));
  const auto seconds = entry.ended - entry.started;
  field("took", seconds == 0 ? "less than a second" : fmt::format("{} s", seconds));
  field("user", entry.user);
  field("command", entry.command);
  field("reason", entry.note);
  field("problem", entry.problem);
  field("fetched", entry.downloaded > 0 ? size_text(entry.downloaded) : "");
  field("undoes", entry.undo_of ? fmt::format("transaction {}", number(*entry.undo_of)) : "");
  field("undone", detail.undone_by ? fmt::format("by transaction {}", number(*detail.undone_by)) : "");
  field("attic", attic_text(detail));
  field("digest", entry.digest.hex());
  print_vouchers(screen, detail.plan);
  for (const plan::Notice& notice : detail.plan.notices) field("note", notice.text());
}

/// What was run, and what it printed.
void print_runs(const Screen& screen, const operations::LedgerDetail& detail) {
  if (detail.runs.empty()) return;
  for (const auto& run : detail.runs) {
    const std::string ended = run.ended.empty() ? fmt::format("{} ms", run.milliseconds) : printable(run.ended);
    screen.line(fmt::format("  ran  {}  {}: {}, {}", screen.paint(Style::Name, run.package), run.occasion,
                            printable(run.program), ended));
    for (const std::string_view line : split(run.output, '\n'))
      if (!line.empty()) screen.line("    " + screen.paint(Style::Faint, printable(line)));
  }
  if (!detail.log.empty()) screen.line(fmt::format("  all that they printed: /{}", detail.log));
  if (!detail.changes.empty()) screen.line();
}

}  // namespace

std::string size_of(const operations::StandingAttic& attic) {
  return attic.attic.bytes ? size_text(*attic.attic.bytes) : std::string("could not be counted");
}

void show(const Session& session, const std::vector<LedgerLine>& lines,
          const std::optional<operations::PreparedChange>& prepared, bool ledger_is_empty) {
  Rows rows(session);
  if (prepared)
    rows.add(
        [&] {
          return Json{{"prepared", to_json(*prepared)}, {"result", "prepared"}};
        },
        {{"next", Style::Name, true},
         {time_text(prepared->account.time), Style::Faint},
         {prepared->account.user},
         {prepared->account.kind},
         {"prepared", Style::Warn},
         {fmt::format("{}, {} staged; `{}`", text_of(*prepared), size_text(prepared->account.staged),
                      session.copyable("hambrel activate"))}});
  for (const LedgerLine& line : lines) {
    const LedgerEntry& entry = line.entry;
    const bool done = entry.result == "done";
    std::string result = line.for_good ? "done; cannot be undone" : entry.result;
    Style style = done ? Style::Plain : Style::Warn;
    if (line.undone_by) {
      result = fmt::format("undone by {}", number(*line.undone_by));
      style = Style::Faint;
    }
    rows.add([&] { return entry_to_json(entry); },
             {{std::to_string(number(entry.id)), Style::Name, true},
              {time_text(entry.started), Style::Faint},
              {entry.user},
              {kind_of(line)},
              {result, style},
              {done ? printable(summary_of(line)) : cut_to(printable(entry.problem), kMostOfProblem)}});
  }
  rows.print(ledger_is_empty ? "The ledger is empty: nothing has been changed in this root yet."
                             : "No transactions match.");
}

void show(const Session& session, const std::vector<operations::ChangedPackage>& packages) {
  Rows rows(session);
  for (const auto& [entry, change] : packages) {
    const auto version = [](const auto& one) { return one ? Json(one->package.version.text()) : Json(); };
    rows.add(
        [&] {
          return Json{{"name", change.name},
                      {"before", version(change.before)},
                      {"after", version(change.after)},
                      {"id", number(entry.id)},
                      {"kind", entry.kind},
                      {"user", entry.user},
                      {"time", utc_text(entry.ended)}};
        },
        {{time_text(entry.ended), Style::Faint},
         {change.name, Style::Name},
         {version_of(change.before)},
         {"->", Style::Faint},
         {version_of(change.after)},
         {fmt::format("{} {}", entry.kind, number(entry.id)), Style::Faint},
         {entry.user, Style::Faint}});
  }
  rows.print("The ledger has no package changes.");
}

void show(const Session& session, const operations::LedgerDetail& detail) {
  const Screen& screen = session.screen();
  if (session.json()) {
    Json object = entry_to_json(detail.entry);
    object["plan"] = detail.entry.record.empty() ? Json() : to_json(detail.plan);
    Json changes = Json::array();
    for (const PackageChange& change : detail.changes)
      changes.push_back(
          {{"name", change.name}, {"before", side_to_json(change.before)}, {"after", side_to_json(change.after)}});
    object["changes"] = std::move(changes);
    object["runs"] = Json::array();
    for (const auto& run : detail.runs)
      object["runs"].push_back({{"package", run.package},
                                {"program", run.program},
                                {"occasion", run.occasion},
                                {"milliseconds", run.milliseconds},
                                {"problem", run.ended},
                                {"output", run.output}});
    object["log"] = detail.log.empty() ? Json() : Json("/" + detail.log);
    return session.document(object);
  }
  print_fields(screen, detail);
  if (!detail.plan.configs.empty()) {
    screen.line();
    print_configs(screen, detail.plan.configs);
  }
  plan::Plan declared = detail.plan;  // what was run is told with its outcome
  declared.runs.clear();
  const bool tells = !declared.accounts.empty() || !declared.links.empty() || !declared.follows.empty();
  if (!tells && detail.runs.empty() && detail.changes.empty()) return;
  screen.line();
  print_acting(screen, declared);
  print_runs(screen, detail);
  if (detail.changes.empty()) return;
  std::map<std::string, std::string> whys;  // as the plan told it then
  for (const plan::Step& step : detail.plan.steps) whys[step.name] = step.why.text();
  Table table;
  for (const PackageChange& change : detail.changes)
    table.row({{change.name, Style::Name},
               {version_of(change.before)},
               {"->", Style::Faint},
               {version_of(change.after)},
               {printable(whys[change.name] + held_since(change))},
               {change.after ? change.after->origin : change.before->origin, Style::Faint}});
  table.print(screen);
}

}  // namespace hambrel::cli
