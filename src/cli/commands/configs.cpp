// configs: the configuration files of this root, what differs, and settling what waits.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/json.h"
#include "base/merge.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/terminal/config_dialogue.h"
#include "operations/supply.h"

namespace hambrel::cli {

namespace {

using txn::ConfigFile;
using txn::ConfigState;

constexpr std::array kStates{ConfigState::Waiting, ConfigState::Edited, ConfigState::Missing, ConfigState::Leftover,
                             ConfigState::Pristine};

Style style_of(ConfigState state) {
  switch (state) {
    case ConfigState::Waiting: return Style::Warn;
    case ConfigState::Edited: return Style::Change;
    case ConfigState::Missing:
    case ConfigState::Leftover: return Style::Go;
    case ConfigState::Pristine: return Style::Faint;
  }
  return Style::Plain;
}

std::set<ConfigState> wanted_states(const Arguments& arguments) {
  std::set<ConfigState> wanted;
  for (const std::string& word : arguments.values("state")) {
    const auto found =
        std::find_if(kStates.begin(), kStates.end(), [&](ConfigState one) { return word == text_of(one); });
    if (found == kStates.end())
      throw Error(ErrorCode::Usage, fmt::format("--state {}: not a state of configuration", printable(word)), {},
                  "there are: waiting edited missing leftover pristine");
    wanted.insert(*found);
  }
  return wanted;
}

std::string remark_on(Session& session, const ConfigFile& file) {
  switch (file.state) {
    case ConfigState::Waiting: return session.copyable("hambrel configs settle /" + file.path);
    case ConfigState::Missing: return "deleted by hand";
    case ConfigState::Leftover: return fmt::format("since transaction {}", number(file.left));
    default: return file.package.shelved ? "its package is shelved" : "";
  }
}

int list(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
  const auto wanted = wanted_states(arguments);
  const state::State* const state = session.state();
  const auto files = state == nullptr ? std::vector<ConfigFile>() : txn::configuration_files(session.files(), *state);
  Table table;
  std::size_t pristine = 0;
  for (const ConfigState one : kStates) {
    for (const ConfigFile& file : files) {
      if (file.state != one || !(wanted.empty() || wanted.contains(one))) continue;
      if (session.json()) {
        screen.line(canonical({{"path", "/" + file.path},
                               {"state", text_of(file.state)},
                               {"package", file.package.package.name},
                               {"version", file.package.package.version.text()},
                               {"sha256", file.entry.digest.hex()}}));
        continue;
      }
      if (one == ConfigState::Pristine && wanted.empty()) {
        ++pristine;
        continue;
      }
      table.row({{text_of(one), style_of(one)},
                 {"/" + printable(file.path), Style::Name},
                 {file.package.package.title()},
                 {remark_on(session, file), Style::Faint}});
    }
  }
  if (session.json()) return 0;
  table.print(screen);
  if (session.quiet()) return 0;
  if (pristine > 0)
    screen.line(fmt::format("{}{} as {} package brought {}: `{}`", table.empty() ? "" : "\n",
                            count_text(pristine, "file is", "files are"), pristine == 1 ? "its" : "their",
                            pristine == 1 ? "it" : "them", session.copyable("hambrel configs --state pristine")));
  else if (table.empty())
    screen.line(wanted.empty() ? "No package here has or left configuration files."
                               : "No configuration file is in such a state.");
  return 0;
}

/// The file that a path names, among those that packages have or had.
const ConfigFile& file_at(const std::vector<ConfigFile>& files, const std::string& given) {
  const std::string path = os::host_path(given);
  const auto found = std::find_if(files.begin(), files.end(), [&](const ConfigFile& one) { return one.path == path; });
  if (found != files.end()) return *found;
  std::vector<std::string> paths;
  for (const ConfigFile& one : files) paths.push_back("/" + one.path);
  const std::string near = did_you_mean("/" + path, paths);
  throw Error(ErrorCode::NotFound, "is no configuration file of a package", "/" + printable(path),
              near.empty() ? "`hambrel configs` lists them" : near);
}

int show_diff(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
  const state::State* const state = session.state();
  const auto files = state == nullptr ? std::vector<ConfigFile>() : txn::configuration_files(session.files(), *state);
  const ConfigFile& file = file_at(files, arguments.words()[1]);
  const auto [base, mine, theirs] = txn::texts_of(session.files(), file);
  const bool waits = file.state == ConfigState::Waiting;
  const std::string against = arguments.value("against").value_or(waits ? "mine" : "old");
  const bool known = against == "mine" || against == "old" || against == "new";
  if (!known)
    throw Error(ErrorCode::Usage, fmt::format("--against {}: mine, old or new was expected", printable(against)));
  const auto& before = against == "mine" ? mine : against == "old" ? base : theirs;
  const auto& after = against == "mine" ? theirs : mine;
  const auto require = [&](const std::optional<std::string>& text, const char* whose) {
    if (!text)
      throw Error(ErrorCode::Refused, fmt::format("{} is not there, or is no text", whose), "/" + file.path,
                  "`hambrel configs` shows in what state each file is");
  };
  require(mine, "your version");
  require(before, against == "old" ? "the version that yours began from" : "the package's version");
  require(after, "the package's version");
  const auto lines = diff(*before, *after);
  static constexpr const char* kKinds[] = {"place", "same", "gone", "come", "no-newline"};
  if (session.json()) {
    Json list = Json::array();
    for (const DiffLine& one : lines)
      list.push_back({{"kind", kKinds[static_cast<int>(one.kind)]}, {"text", one.text}});
    screen.line(canonical({{"path", "/" + file.path}, {"against", against}, {"lines", std::move(list)}}));
    return 0;
  }
  const std::string name = fmt::format("/{} of {}", printable(file.path), file.package.package.title());
  if (lines.empty()) {
    screen.line(name + ": no difference.");
    return 0;
  }
  screen.line(fmt::format("{}, {}", screen.paint(Style::Name, name),
                          against == "mine"  ? "from yours to the version that its package brings"
                          : against == "old" ? "from what yours began from to yours"
                                             : "from the version that its package brings to yours"));
  print_diff(screen, *before, *after, 0);
  return 0;
}

int settle(Session& session, const Arguments& arguments) {
  if (!arguments.has("configs") && (arguments.has("yes") || session.json()))
    throw Error(ErrorCode::Usage, "what is to become of the files was not said", {},
                "add --configs keep, take or merge, or leave out --yes to be asked");
  open_for(session, arguments);
  const state::State& state = operations::require_state(session.root());
  const auto files = txn::configuration_files(session.files(), state);
  std::vector<ConfigFile> chosen;
  for (std::size_t i = 1; i < arguments.words().size(); ++i) chosen.push_back(file_at(files, arguments.words()[i]));
  if (chosen.empty())
    for (const ConfigFile& one : files)
      if (one.state == ConfigState::Waiting) chosen.push_back(one);
  if (chosen.empty()) {
    if (!session.quiet() && !session.json()) session.screen().line("Nothing to do: nothing waits to be settled.");
    return 0;
  }
  std::vector<operations::ConfigQuestion> questions;
  for (const ConfigFile& one : chosen)
    questions.push_back({one.path, one.package.package.title(), txn::texts_of(session.files(), one),
                         one.state == ConfigState::Waiting});
  for (const ConfigFile& one : chosen)
    if (one.state == ConfigState::Leftover || one.state == ConfigState::Pristine) {
      operations::VersionFiles supply(session.root());  // it says why that can't be settled
      txn::plan_settle(session.files(), state, {one}, {{one.path, {plan::ConfigAction::Take, {}}}}, supply.file_of());
    }
  operations::ConfigTerms terms = config_terms(session, arguments);
  terms.heed_settings = false;
  const auto decisions = operations::decide(session.root(), std::move(questions), terms);
  txn::Choices choices = decisions.choices;
  if (!decisions.open.empty() && !arguments.has("dry-run")) choices.merge(ask_about(session, decisions.open));
  operations::VersionFiles supply(session.root());
  txn::Planned planned = txn::plan_settle(session.files(), state, chosen, choices, supply.file_of());
  for (const plan::Notice& one : decisions.notices) planned.plan.notices.push_back(one);
  if (planned.does_nothing()) {
    if (session.json()) return show_nothing(session, planned.plan);
    for (const plan::Notice& one : planned.plan.notices) session.screen().remark(printable(one.text()));
    if (!session.quiet()) session.screen().line("Nothing was settled; it all stays as it is.");
    return 0;
  }
  return carry_out(session, arguments,
                   operations::propose(session.root(), std::move(planned), planned_terms(arguments)));
}

}  // namespace

int run_configs(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  if (words.empty()) return list(session, arguments);
  if (words[0] == "diff" && words.size() == 2) return show_diff(session, arguments);
  if (words[0] == "settle") return settle(session, arguments);
  throw Error(ErrorCode::Usage, fmt::format("`hambrel configs {}` is not known", printable(join(words, " "))), {},
              "there are `hambrel configs`, `configs diff PATH` and `configs settle [PATH...]`");
}

}  // namespace hambrel::cli
