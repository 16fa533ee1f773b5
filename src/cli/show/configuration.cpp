#include "cli/show/configuration.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/rows.h"

namespace hambrel::cli {

namespace {

using operations::ConfigComparison;
using operations::ConfigFile;
using operations::ConfigState;

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

std::string remark_on(const Session& session, const ConfigFile& file) {
  switch (file.state) {
    case ConfigState::Waiting: return session.copyable("hambrel configs settle /" + file.path);
    case ConfigState::Missing: return "deleted by you";
    case ConfigState::Leftover: return fmt::format("since transaction {}", number(file.left));
    default: return file.package.shelved ? "its package is shelved" : "";
  }
}

Json config_to_json(const ConfigFile& file) {
  return {{"path", "/" + file.path},
          {"state", text_of(file.state)},
          {"package", file.package.package.name},
          {"version", file.package.package.version.text()},
          {"sha256", file.entry.digest.hex()}};
}

const char* name_of(ConfigComparison::Against against) {
  switch (against) {
    case ConfigComparison::Against::Mine: return "mine";
    case ConfigComparison::Against::Old: return "old";
    case ConfigComparison::Against::New: return "new";
  }
  return "";
}

const char* text_of(ConfigComparison::Against against) {
  switch (against) {
    case ConfigComparison::Against::Mine: return "from your version to the package's";
    case ConfigComparison::Against::Old: return "from the version yours is based on to yours";
    case ConfigComparison::Against::New: return "from the package's version to yours";
  }
  return "";
}

}  // namespace

void print_differences(const Screen& screen, const std::vector<operations::ConfigDifference>& differences) {
  for (const operations::ConfigDifference& one : differences) {
    screen.line();
    screen.line(screen.paint(Style::Name, "/" + printable(one.path)));
    if (!one.known)
      screen.line("  It cannot be shown: it is not text, or its content is not known.");
    else
      print_diff(screen, diff(one.before.value_or(""), one.after.value_or("")), 0);
  }
}

ConfigState parse_config_state(const std::string& word) {
  const auto found =
      std::find_if(kStates.begin(), kStates.end(), [&](ConfigState one) { return word == text_of(one); });
  if (found != kStates.end()) return *found;
  throw Error(ErrorCode::Usage, fmt::format("--state {}: not a configuration state", printable(word)), {},
              "states: waiting edited missing leftover pristine");
}

void show(const Session& session, const std::vector<ConfigFile>& files, const std::set<ConfigState>& states) {
  Rows rows(session);
  std::size_t pristine = 0;
  for (const ConfigState state : kStates) {
    if (!states.empty() && !states.contains(state)) continue;
    for (const ConfigFile& file : files) {
      if (file.state != state) continue;
      if (state == ConfigState::Pristine && states.empty() && !session.json()) {
        ++pristine;
        continue;
      }
      rows.add([&] { return config_to_json(file); }, {{text_of(state), style_of(state)},
                                                      {"/" + printable(file.path), Style::Name},
                                                      {file.package.package.title()},
                                                      {remark_on(session, file), Style::Faint}});
    }
  }
  const bool none = rows.count() == 0 && pristine == 0;
  const char* const nothing =
      states.empty() ? "No package has configuration files." : "No configuration file is in this state.";
  rows.print(none ? nothing : "");
  if (pristine == 0 || session.quiet()) return;
  session.screen().line(fmt::format("{}{} pristine: `{}`", rows.count() == 0 ? "" : "\n",
                                    count_text(pristine, "file is", "files are"),
                                    session.copyable("hambrel configs --state pristine")));
}

void show(const Session& session, const ConfigComparison& comparison) {
  static constexpr const char* kKinds[] = {"place", "same", "gone", "come", "no-newline"};
  const Screen& screen = session.screen();
  if (session.json()) {
    Json lines = Json::array();
    for (const DiffLine& one : comparison.lines)
      lines.push_back({{"kind", kKinds[static_cast<int>(one.kind)]}, {"text", one.text}});
    return session.document(
        {{"path", "/" + comparison.file.path}, {"against", name_of(comparison.against)}, {"lines", std::move(lines)}});
  }
  const std::string name =
      fmt::format("/{} of {}", printable(comparison.file.path), comparison.file.package.package.title());
  if (comparison.lines.empty()) return screen.line(name + ": no difference.");
  screen.line(fmt::format("{}, {}", screen.paint(Style::Name, name), text_of(comparison.against)));
  print_diff(screen, comparison.lines, 0);
}

void print_diff(const Screen& screen, const std::vector<DiffLine>& lines, std::size_t most) {
  std::size_t shown = 0;
  for (const DiffLine& one : lines) {
    if (most > 0 && shown == most && lines.size() > most + 3)
      return screen.line(fmt::format("      ... {} more lines", lines.size() - shown));
    ++shown;
    std::string text;
    for (const char c : one.text) c == '\t' ? text += "    " : text += c;
    text = printable(text);
    switch (one.kind) {
      case DiffLine::Kind::Hunk:  // without what comes after the numbers: a line that helps in programs, not here
        screen.line("    " + screen.paint(Style::Faint, text.substr(0, text.find(" @@", 3) + 3)));
        break;
      case DiffLine::Kind::Same: screen.line("      " + text); break;
      case DiffLine::Kind::Gone: screen.line("    " + screen.paint(Style::Go, "- " + text)); break;
      case DiffLine::Kind::Come: screen.line("    " + screen.paint(Style::Come, "+ " + text)); break;
      case DiffLine::Kind::NoNewline:
        screen.line("      " + screen.paint(Style::Faint, "(no newline at the end)"));
        break;
    }
  }
}

}  // namespace hambrel::cli
