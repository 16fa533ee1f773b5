#include "cli/show/prepared.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"

namespace hambrel::cli {

namespace {

Json steps_of(const state::Prepared& prepared) {
  return parse_json(prepared.plan, "prepared").value("steps", Json::array());
}

}  // namespace

std::string prepared_text(const state::Prepared& prepared) {
  return fmt::format("{} of {}", prepared.kind, count_text(steps_of(prepared).size(), "package", "packages"));
}

Json to_json(const state::Prepared& prepared) {
  return {
      {"kind", prepared.kind},     {"command", prepared.command},     {"user", prepared.user},
      {"reason", prepared.note},   {"time", utc_text(prepared.time)}, {"after", number(prepared.after)},
      {"staged", prepared.staged}, {"at_boot", prepared.at_boot},     {"plan", parse_json(prepared.plan, "prepared")}};
}

void print_prepared(const Session& session, const state::Prepared& prepared) {
  const Screen& screen = session.screen();
  screen.line(fmt::format("{} {}, by {}, {}, {} staged{}", screen.paint(Style::Strong, "Prepared:"),
                          prepared_text(prepared), printable(prepared.user), time_text(prepared.time),
                          size_text(prepared.staged), prepared.at_boot ? ", for the next start" : ""));
  screen.line("  " + screen.paint(Style::Faint, printable(prepared.command)));
  screen.line();
  Table table;
  for (const Json& step : steps_of(prepared)) {
    const auto version = [&](const char* name) {
      return step.contains(name) && step[name].is_string() ? step[name].get<std::string>() : std::string("-");
    };
    table.row({{step.value("action", "")},
               {step.value("name", ""), Style::Name},
               {version("before")},
               {"->", Style::Faint},
               {version("after")},
               {step.contains("why") ? printable(step["why"].value("text", "")) : std::string()}});
  }
  table.print(screen);
}

}  // namespace hambrel::cli
