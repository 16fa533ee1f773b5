#include "cli/show/source_build.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/rows.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

bool has_to_be_built(const build::SourceBuild& one) { return one.is_forced || !one.is_made; }

std::vector<std::string> names_in(const build::Switches& switches, bool on) {
  std::vector<std::string> names;
  for (const auto& [name, is_on] : switches)
    if (is_on == on) names.push_back(name);
  return names;
}

namespace {

std::string time_text_of(const build::SourceBuild& one) {
  constexpr double kSecond = 1000;
  if (!has_to_be_built(one)) return "is built already";
  return one.last_time ? fmt::format("took {:.1f} s last time", static_cast<double>(*one.last_time) / kSecond)
                       : "not built here before";
}

}  // namespace

void show(const Session& session, const std::vector<build::SourceBuild>& builds) {
  const Screen& screen = session.screen();
  const auto open = std::count_if(builds.begin(), builds.end(), has_to_be_built);
  screen.line(screen.paint(Style::Strong,
                           open == 0 ? "Nothing has to be built."
                                     : fmt::format("{} will be built from source, then installed.",
                                                   count_text(static_cast<std::size_t>(open), "recipe", "recipes"))));
  screen.line();
  Table table;
  for (const build::SourceBuild& one : builds)
    table.row({{has_to_be_built(one) ? "build" : "keep", has_to_be_built(one) ? Style::Come : Style::Faint},
               {one.wanted.recipe.name, Style::Name},
               {one.wanted.recipe.version},
               {printable(one.why)},
               {join(names_in(one.switches, true), ", "), Style::Change},
               {time_text_of(one), Style::Faint}});
  table.print(screen);
}

void show_documents(const Session& session, const std::vector<build::SourceBuild>& builds) {
  for (const build::SourceBuild& one : builds)
    session.document({{"recipe", one.wanted.recipe.name},
                      {"version", one.wanted.recipe.version},
                      {"why", one.why},
                      {"options", one.switches},
                      {"made", one.is_made && !one.is_forced},
                      {"last_milliseconds", one.last_time ? Json(*one.last_time) : Json()}});
}

void show(const Session& session, const build::Recipe& recipe, const build::Switches& now) {
  Rows rows(session);
  for (const auto& [name, option] : recipe.options)
    rows.add(
        [&, key = name, is_on = option.is_on, text = option.text] {
          return Json{{"option", key}, {"on", now.at(key)}, {"default", is_on}, {"text", text}};
        },
        {{name, Style::Name},
         {now.at(name) ? "on" : "off", now.at(name) == option.is_on ? Style::Plain : Style::Change},
         {printable(option.text)},
         {now.at(name) == option.is_on ? "" : fmt::format("the recipe's own: {}", option.is_on ? "on" : "off"),
          Style::Faint}});
  rows.print(fmt::format("{} has no options.", recipe.name()).c_str());
}

}  // namespace hambrel::cli
