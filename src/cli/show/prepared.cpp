#include "cli/show/prepared.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/plan.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

std::string text_of(const operations::PreparedChange& prepared) {
  return fmt::format("{} of {}", prepared.account.kind, count_text(prepared.plan.steps.size(), "package", "packages"));
}

Json to_json(const operations::PreparedChange& prepared) {
  const auto& account = prepared.account;
  return {{"kind", account.kind},     {"command", account.command},     {"user", account.user},
          {"reason", account.note},   {"time", utc_text(account.time)}, {"after", number(account.after)},
          {"staged", account.staged}, {"at_boot", account.at_boot},     {"plan", to_json(prepared.plan)}};
}

void print(const Session& session, const operations::PreparedChange& prepared) {
  const Screen& screen = session.screen();
  const auto& account = prepared.account;
  screen.line(fmt::format("{} {}, by {}, {}, {} staged{}", screen.paint(Style::Strong, "Prepared:"), text_of(prepared),
                          printable(account.user), time_text(account.time), size_text(account.staged),
                          account.at_boot ? ", for the next start" : ""));
  screen.line("  " + screen.paint(Style::Faint, printable(account.command)));
  screen.line();
  Table table;
  for (const plan::Step& step : prepared.plan.steps)
    table.row({{plan::text_of(step.action)},
               {step.name, Style::Name},
               {step.before.empty() ? "-" : step.before},
               {"->", Style::Faint},
               {step.after.empty() ? "-" : step.after},
               {printable(step.why.text())}});
  table.print(screen);
}

}  // namespace hambrel::cli
