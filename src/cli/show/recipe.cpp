#include "cli/show/recipe.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/terminal/table.h"
#include "plan/plan.h"

namespace hambrel::cli {

namespace {

std::string relations_text(const std::vector<Relation>& relations) {
  std::vector<std::string> texts;
  for (const Relation& one : relations) texts.push_back(one.text());
  return join(texts, ", ");
}

std::string options_text(const build::Recipe& recipe, const build::Switches& switches) {
  std::vector<std::string> texts;
  for (const auto& [name, option] : recipe.options)
    texts.push_back(fmt::format("{} {} ({})", name, switches.at(name) ? "on" : "off", printable(option.text)));
  return join(texts, ", ");
}

std::string names_of(const build::BuildRoot& root) {
  std::vector<std::string> names;
  for (const std::string& one : root.against) names.push_back(one.substr(0, one.find(' ')));
  return plan::some_of(names);
}

std::string root_text(const build::BuildRoot& root) {
  if (root.is_host) return "the programs and libraries of this machine (--host-tools)";
  if (root.packages == 0) return "none: an empty build root";
  std::string text = fmt::format("{}, {}: {}", count_text(root.packages, "package", "packages"), size_text(root.bytes),
                                 names_of(root));
  if (root.was_there) return text + "; the build root is there";
  if (root.fetched > 0) return text + fmt::format("; fetches {}", size_text(root.fetched));
  return text + "; all in the cache";
}

std::string source_text(const build::PlannedSource& source) {
  std::string text = source.name == source.from ? source.name : fmt::format("{}  {}", source.name, source.from);
  if (source.name != source.from) text += source.is_here ? "; in the cache" : "; to be fetched";
  if (source.is_signed) text += "; signed";
  if (source.patches > 0) text += "; with " + count_text(source.patches, "patch", "patches");
  return printable(text);
}

Json made_to_json(const build::MadePackage& made) {
  Json found = Json::array();
  for (const auto& one : made.found)
    found.push_back({{"what", one.what}, {"relation", one.relation.empty() ? Json() : Json(one.relation)}});
  return {{"name", made.package.name}, {"version", made.package.version.text()},
          {"arch", made.package.arch}, {"file", made.file},
          {"size", made.size},         {"sha256", made.digest.hex()},
          {"found", std::move(found)}, {"provides", made.provides}};
}

std::string seconds_text(std::int64_t milliseconds) {
  constexpr double kSecond = 1000;
  return fmt::format("{:.1f} s", static_cast<double>(milliseconds) / kSecond);
}

/// What was found out of its relations: by what is required now, and what nobody is known to have.
void print_found(const Screen& screen, const build::MadePackage& made) {
  std::map<std::string, std::vector<std::string>> by_relation;
  for (const auto& one : made.found) by_relation[one.relation].push_back(one.what);
  for (const auto& [relation, reasons] : by_relation) {
    if (relation.empty() || relation == made.package.name) continue;
    const std::string more = reasons.size() == 1 ? "" : fmt::format(" and {} more", reasons.size() - 1);
    screen.line(
        fmt::format("    requires {}: {}{}", screen.paint(Style::Name, relation), printable(reasons.front()), more));
  }
  for (const std::string& one : made.provides) screen.line("    provides " + printable(one));
  if (const auto unknown = by_relation.find(""); unknown != by_relation.end())
    for (const std::string& one : unknown->second)
      screen.line(fmt::format("    {} {}, and no package is known to have it", screen.paint(Style::Warn, "note:"),
                              printable(one)));
}

}  // namespace

Json to_json(const build::BuildPlan& plan) {
  Json sources = Json::array(), steps = Json::array();
  for (const auto& one : plan.sources)
    sources.push_back({{"name", one.name},
                       {"from", one.from},
                       {"here", one.is_here},
                       {"signed", one.is_signed},
                       {"patches", one.patches}});
  for (const build::StepKind kind : plan.steps) steps.push_back(text_of(kind));
  return {{"recipe", plan.recipe->name()},
          {"version", plan.recipe->usual.version.text()},
          {"digest", plan.digest.hex()},
          {"options", plan.switches},
          {"sources", std::move(sources)},
          {"steps", std::move(steps)},
          {"build_root",
           {{"host_tools", plan.root.is_host},
            {"there", plan.root.was_there},
            {"installed_size", plan.root.bytes},
            {"fetch", plan.root.fetched},
            {"packages", plan.root.against}}}};
}

void show(Session& session, const build::BuildPlan& plan) {
  const Screen& screen = session.screen();
  const build::Recipe& recipe = *plan.recipe;
  screen.line(fmt::format("{} {} from source", screen.paint(Style::Name, recipe.name()), recipe.usual.version.text()));
  screen.field("options", options_text(recipe, plan.switches));
  for (const auto& one : plan.sources) screen.field(&one == &plan.sources.front() ? "sources" : "", source_text(one));
  screen.field("needs", root_text(plan.root));
  std::vector<std::string> made;
  for (const build::Output& one : recipe.outputs)
    if (one.only_with.empty() || plan.switches.at(one.only_with)) made.push_back(one.package.package.name);
  screen.field("makes", join(made, ", "));
}

void show(Session& session, const build::Recipe& recipe, const build::BuildFailure& failure) {
  constexpr std::size_t kLines = 30;
  const auto lines = failure.last_lines(kLines);
  if (session.json()) {
    session.document({{"failed", recipe.name()},
                      {"step", text_of(failure.step.kind)},
                      {"problem", failure.step.text()},
                      {"lines", lines},
                      {"log", failure.log},
                      {"kept", failure.kept.empty() ? Json() : Json(failure.kept)}});
    return;
  }
  const Screen& screen = session.screen();
  screen.note(fmt::format("{} {}: step {}: {}", screen.paint_error(Style::Warn, "Failed:"), recipe.name(),
                          text_of(failure.step.kind), printable(failure.step.text())));
  if (!lines.empty()) screen.note(lines.size() < kLines ? "It printed:" : "The last lines that it printed:");
  for (const std::string& line : lines) screen.note("  | " + line);
  screen.note("Nothing was made, and nothing of the system was changed.");
  screen.hint("all that it printed: " + failure.log);
  if (failure.kept.empty())
    screen.hint("to look at what it left, build it again with --keep");
  else
    screen.hint("its directory: " + failure.kept);
  if (!failure.kept.empty()) screen.hint("a shell in it: the same command with --shell");
}

void show(Session& session, const build::BuildOutcome& outcome, bool with_place) {
  if (session.json()) {
    Json packages = Json::array(), times = Json::object();
    for (const auto& one : outcome.packages) packages.push_back(made_to_json(one));
    for (const build::StepKind kind : build::kSteps)
      times[std::string(text_of(kind))] = outcome.times.milliseconds[static_cast<std::size_t>(kind)];
    session.document({{"packages", std::move(packages)},
                      {"milliseconds", std::move(times)},
                      {"log", outcome.log},
                      {"fetched", outcome.fetched},
                      {"reproducible", outcome.is_reproducible}});
    return;
  }
  const Screen& screen = session.screen();
  std::int64_t all = 0;
  for (const std::int64_t one : outcome.times.milliseconds) all += one;
  if (!session.quiet())
    screen.line(fmt::format("Built in {}{}.", seconds_text(all),
                            outcome.is_reproducible ? ", twice with the same result" : ""));
  for (const build::MadePackage& one : outcome.packages) {
    const std::string file = with_place ? one.file : one.file.substr(one.file.rfind('/') + 1);
    screen.line(fmt::format("  {}  {} {}, {} in {}", screen.paint(Style::Name, file), one.package.title(),
                            one.package.arch, size_text(one.size),
                            count_text(one.package.file_count, "file", "files")));
    if (!session.quiet()) print_found(screen, one);
  }
}

void show(Session& session, const build::RecipeFolder& folder) {
  const build::Recipe& recipe = folder.recipe();
  const build::Switches switches = build::switches_of(recipe, {}, {});
  const auto needs = build::needs_of(recipe, switches);
  if (session.json()) {
    Json options = Json::object(), sources = Json::array(), packages = Json::array();
    for (const auto& [name, option] : recipe.options)
      options[name] = {{"text", option.text}, {"default", option.is_on}};
    for (const auto& one : recipe.sources)
      sources.push_back({{"name", one.name()}, {"from", one.url.empty() ? one.file : one.url}});
    for (const auto& one : recipe.outputs) packages.push_back(one.package.package.name);
    session.document({{"recipe", recipe.name()},
                      {"version", recipe.usual.version.text()},
                      {"summary", recipe.usual.summary},
                      {"license", recipe.usual.license},
                      {"digest", folder.digest().hex()},
                      {"options", std::move(options)},
                      {"sources", std::move(sources)},
                      {"packages", std::move(packages)}});
    return;
  }
  const Screen& screen = session.screen();
  screen.line(fmt::format("{} {}  {}", screen.paint(Style::Name, recipe.name()), recipe.usual.version.text(),
                          printable(recipe.usual.summary)));
  screen.field("license", printable(recipe.usual.license));
  screen.field("homepage", printable(recipe.usual.homepage));
  screen.field("options", options_text(recipe, switches));
  for (const auto& one : recipe.sources)
    screen.field(&one == &recipe.sources.front() ? "sources" : "",
                 printable(one.url.empty() ? one.file : shown_url(one.url)));
  screen.field("tools", relations_text(needs.tools));
  screen.field("libraries", relations_text(needs.libraries));
  std::vector<std::string> made;
  for (const build::Output& one : recipe.outputs) made.push_back(one.package.package.name);
  screen.field("makes", join(made, ", "));
  screen.field("digest", folder.digest().hex());
  for (const build::StepKind kind : build::kSteps) {
    const build::Step& step = recipe.step(kind);
    if (step.empty()) continue;
    screen.line();
    screen.line(std::string(text_of(kind)));
    for (const auto& words : step.commands) {
      std::string text;
      for (const std::string& word : words) {
        const bool is_plain_word = !word.empty() && word.find_first_of(" \t\n'\"") == std::string::npos;
        text += (text.empty() ? "" : " ") + (is_plain_word ? word : shell_quoted(word));
      }
      screen.line("  " + printable(text));
    }
    for (const std::string_view line : split(step.script, '\n'))
      if (!step.script.empty()) screen.line("  " + printable(line));
  }
}

Json to_json(const build::Buildable& recipe) {
  const auto& one = recipe.recipe;
  return {{"recipe", one.name},     {"version", one.version},    {"repository", recipe.repository.name},
          {"summary", one.summary}, {"license", one.license},    {"packages", one.packages},
          {"options", one.options}, {"digest", one.digest.hex()}};
}

void show(Session& session, const build::Buildable& recipe) {
  const Screen& screen = session.screen();
  const auto& one = recipe.recipe;
  if (session.json()) return session.document(to_json(recipe));
  screen.line(fmt::format("{} {}  {}", screen.paint(Style::Name, one.name), one.version, printable(one.summary)));
  screen.field("state", "not installed; can be built from source");
  screen.field("recipe",
               fmt::format("of {}{}", recipe.repository.name, recipe.is_signed ? ", signed" : ", not signed"));
  if (!one.license.empty()) screen.field("license", printable(one.license));
  screen.field("makes", printable(join(one.packages, ", ")));
  for (const auto& [name, text] : one.options)
    screen.field(&name == &one.options.begin()->first ? "options" : "", printable(fmt::format("{}: {}", name, text)));
  screen.line();
  screen.line(fmt::format("  To build and install it: {}",
                          session.copyable(fmt::format("hambrel install {} --from-source", one.name))));
}

void tell_of(Session& session, const build::Buildable& recipe) {
  session.screen().line();
  session.screen().line(
      fmt::format("  {} {} can be built from source, too:\n    {}", recipe.recipe.name, recipe.recipe.version,
                  session.copyable(fmt::format("hambrel install {} --from-source", recipe.recipe.name))));
}

void show(const Session& session, const std::string& what, const build::Review& review, bool paged) {
  const Screen& screen = session.screen();
  if (paged) screen.begin_page();
  screen.line(screen.paint(Style::Strong, what));
  for (const std::string& line : review.lines) {
    Style style = Style::Plain;
    if (line.starts_with("+ ")) style = Style::Come;
    if (line.starts_with("- ")) style = Style::Go;
    screen.line("  " + screen.paint(review.is_first ? Style::Plain : style, printable_line(line)));
  }
  screen.line();
  if (paged) screen.end_page();
}

}  // namespace hambrel::cli
