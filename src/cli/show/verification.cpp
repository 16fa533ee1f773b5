#include "cli/show/verification.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/rows.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

using operations::Finding;

namespace {

const char* name_of(Finding::Kind kind) {
  static constexpr const char* kNames[] = {"missing", "type",       "content", "mode",    "owner", "target",
                                           "links",   "attributes", "edited",  "deleted", "remade"};
  return kNames[static_cast<int>(kind)];
}

Json finding_to_json(const Finding& one) {
  return {{"path", "/" + one.entry.path},
          {"package", one.package},
          {"kind", name_of(one.kind)},
          {"text", one.text()},
          {"made_by", one.made_by.empty() ? Json() : Json(one.made_by)},
          {"damage", one.is_damage()}};
}

/// How many findings, from `first` on, say that all of a directory that is missing is missing, too.
std::size_t missing_below(const std::vector<Finding>& findings, std::size_t first) {
  const Finding& top = findings[first];
  if (top.kind != Finding::Kind::Missing || top.entry.type != EntryType::Directory) return 0;
  std::size_t count = 0;
  while (first + count + 1 < findings.size()) {
    const Finding& next = findings[first + count + 1];
    if (next.kind != Finding::Kind::Missing || !next.entry.path.starts_with(top.entry.path + "/")) break;
    ++count;
  }
  return count;
}

}  // namespace

void show(const Session& session, const operations::Verification& found, bool all) {
  const Screen& screen = session.screen();
  const auto& findings = found.files.findings;  // by path: what is below a directory follows it
  Rows rows(session);
  for (std::size_t i = 0; i < findings.size(); ++i) {
    const Finding& one = findings[i];
    if (!one.is_damage() && session.quiet() && !session.json()) continue;
    const std::size_t below = session.json() || all ? 0 : missing_below(findings, i);
    rows.add([&] { return finding_to_json(one); },
             {{one.is_damage() ? "damaged" : "kept", one.is_damage() ? Style::Warn : Style::Faint},
              {"/" + printable(one.entry.path), Style::Name},
              {below == 0 ? one.text() : fmt::format("{}, with {} below it", one.text(), below)},
              {one.package, Style::Faint}});
    i += below;
  }
  rows.print();
  for (const std::string& problem : found.problems) {
    if (session.json())
      session.document({{"problem", problem}});
    else
      screen.line("  " + screen.paint(Style::Warn, "problem") + "  " + printable(problem));
  }
  for (const auto& one : found.left_out) {
    const std::string text = fmt::format("the {} of {} is due: {} was left out in transaction {}",
                                         one.run.occasion == "trigger" ? "trigger" : "hook", one.run.package,
                                         printable(one.run.program), number(one.id));
    if (session.json())
      session.document({{"problem", text}});
    else
      screen.line("  " + screen.paint(Style::Warn, "due") + "  " + text);
  }
  const std::size_t damaged = found.files.damaged();
  const bool separate =
      !session.json() && !session.quiet() && (rows.count() > 0 || !found.problems.empty() || !found.left_out.empty());
  session.say(
      {{"packages", found.packages.size()},
       {"files", found.files.files},
       {"read", found.files.read},
       {"damaged", damaged}},
      fmt::format("{}{} in {}, {} read: {}.", separate ? "\n" : "", count_text(found.files.files, "file", "files"),
                  count_text(found.packages.size(), "package", "packages"), size_text(found.files.read),
                  damaged == 0 ? "all identical to their packages" : fmt::format("{} damaged", damaged)));
}

Json to_json(const operations::RebuildProposal& proposal, const char* result) {
  Json installed = Json::array();
  for (const auto& one : proposal.planned.installed)
    installed.push_back({{"name", one.package.package.name},
                         {"version", one.package.package.version.text()},
                         {"arch", one.package.package.arch},
                         {"from", one.from.empty() ? Json() : Json(one.from)}});
  return {{"kind", "rebuild"},
          {"installed", std::move(installed)},
          {"transactions", proposal.planned.history.size()},
          {"result", result}};
}

void print(const Session& session, const operations::RebuildProposal& proposal) {
  const Screen& screen = session.screen();
  const auto& [planned, broken] = proposal;
  screen.line(screen.paint(Style::Strong, "The state will be recreated") +
              fmt::format(" from {}.", count_text(planned.history.size(), "transaction", "transactions")));
  screen.line();
  Table table;
  for (const auto& one : planned.installed) {
    const bool found = !one.from.empty();
    const char* const state = one.package.shelved ? "shelved" : "installed";
    table.row({{found ? state : "lost", found ? Style::Plain : Style::Warn},
               {one.package.package.name, Style::Name},
               {one.package.package.version.text()},
               {text_of(one.package.reason)},
               {found ? one.from : "its package file is nowhere to be found: its files stay; install it again",
                Style::Faint}});
  }
  table.print(screen);
  screen.line();
  if (!broken.empty()) screen.remark("later transactions are not known: " + printable(broken));
  const std::size_t others = planned.versions - planned.known;
  if (others > 0)
    screen.remark(fmt::format("{} in the ledger {} not available anywhere; there is no going back to {}",
                              count_text(others, "version", "versions"), others == 1 ? "is" : "are",
                              others == 1 ? "it" : "them"));
  screen.remark(fmt::format(
      "packages' files are not touched; the old attic and checkpoints are useless without the lost state and "
      "are moved aside in /{}",
      operations::kStateDirectory));
}

}  // namespace hambrel::cli
