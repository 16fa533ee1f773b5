// help, version, demo.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cctype>
#include <cstdlib>

#include "base/text.h"
#include "cli/session.h"
#include "cli/terminal/table.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

/// Longer lines are hard to read.
std::size_t help_width() { return std::min<std::size_t>(100, terminal_width()); }

std::string option_text(const OptionSpec& option) {
  std::string text =
      option.letter != 0 ? fmt::format("-{}, --{}", option.letter, option.name) : fmt::format("    --{}", option.name);
  if (option.value != nullptr) text += fmt::format(" {}", option.value);
  return text;
}

void print_options(const Screen& screen, std::span<const OptionSpec> options) {
  Table table;
  for (const OptionSpec& option : options) table.row({{option_text(option), Style::Come, false, true}, {option.help}});
  table.print(screen);
}

void print_heading(const Screen& screen, std::string_view heading) {
  screen.line();
  screen.line(screen.paint(Style::Strong, heading));
}

void print_overview(const Screen& screen) {
  screen.line("hambrel installs, upgrades and removes packages, and can undo every change.");
  std::string_view task;
  std::optional<Table> table;
  const auto end = [&] {
    if (table) table->print(screen);
  };
  std::size_t widest = 0;  // so that all tables have the same columns
  for (const Command& command : commands())
    if (!command.hidden) widest = std::max(widest, std::string_view(command.name).size());
  const auto name_cell = [&](std::string_view name) { return fmt::format("{:<{}}", name, widest); };
  for (const Command& command : commands()) {
    if (command.hidden) continue;
    if (task != command.task) {
      end();
      task = command.task;
      print_heading(screen, task);
      table.emplace();
    }
    table->row({{name_cell(command.name), Style::Name, false, true}, {command.summary}});
  }
  end();
  print_heading(screen, "Topics");
  Table subjects;
  for (const Topic& topic : topics())
    subjects.row({{name_cell(topic.name), Style::Name, false, true}, {topic.summary}});
  subjects.print(screen);
  print_heading(screen, "Options of every command");
  print_options(screen, common_options());
  screen.line();
  screen.line("`hambrel help COMMAND` and `hambrel help TOPIC` explain one, with examples.");
}

/// Paragraphs are wrapped, lines that begin with two blanks stay as they are.
void print_topic(const Screen& screen, const Topic& topic) {
  screen.line(fmt::format("{}: {}", screen.paint(Style::Strong, topic.name), topic.summary));
  screen.line();
  std::string paragraph;
  const auto end = [&] {
    if (!paragraph.empty()) screen.paragraph(paragraph, 0, help_width());
    paragraph.clear();
  };
  for (const std::string_view line : split(topic.text, '\n')) {
    if (!line.empty() && !line.starts_with("  ")) {
      paragraph += fmt::format("{}{}", paragraph.empty() ? "" : " ", line);
      continue;
    }
    end();
    screen.line(line);
  }
  end();
}

}  // namespace

void print_common_tasks(const Screen& screen) {
  const auto task = [&](const char* title, std::initializer_list<std::pair<const char*, const char*>> commands) {
    constexpr std::size_t kWidest = 22;  // columns of the longest command
    print_heading(screen, title);
    Table table;
    for (const auto& [command, meaning] : commands)
      table.row({{fmt::format("{:<{}}", command, kWidest), Style::Name, false, true}, {meaning}});
    table.print(screen);
  };
  screen.line("hambrel installs, upgrades and removes packages, and can undo every change.");
  task("Find", {{"hambrel search WORD", "find packages"},
                {"hambrel describe NAME", "everything about a package"},
                {"hambrel list", "installed packages"}});
  task("Change", {{"hambrel refresh", "ask the repositories what is new"},
                  {"hambrel install NAME", "install a package and what it needs"},
                  {"hambrel upgrade", "upgrade everything, or what you name"},
                  {"hambrel remove NAME", "remove a package; --purge also removes its edited configuration"},
                  {"hambrel configs", "edited configuration, and new versions that wait for a decision"}});
  task("Go back", {{"hambrel ledger", "what was done, when and by whom"},
                   {"hambrel undo N", "undo transaction N"},
                   {"hambrel rollback N", "return to the state after transaction N"},
                   {"hambrel verify", "compare installed files with their packages"}});
  screen.line();
  screen.paragraph(
      "Every change shows its plan and asks first; -n only shows it. `hambrel help` lists all commands, "
      "`hambrel help COMMAND` explains one, `hambrel demo` shows them at work.",
      0, help_width());
}

void print_help(const Screen& screen, const Command& command) {
  screen.line(fmt::format("{}{}{}", screen.paint(Style::Strong, fmt::format("hambrel {}", command.name)),
                          *command.usage != '\0' ? " " : "", command.usage));
  std::string summary = command.summary;
  summary[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(summary[0])));
  screen.paragraph(summary + ".", 2, help_width());
  if (*command.text != '\0') {
    screen.line();
    screen.paragraph(command.text, 2, help_width());
  }
  if (!command.options.empty()) {
    screen.line();
    print_options(screen, command.options);
  }
  screen.line();
  screen.line(screen.paint(Style::Faint, "Examples"));
  Table table;
  for (const Example& example : command.examples)
    table.row({{example.line, Style::Plain, false, true}, {example.meaning, Style::Faint}});
  table.print(screen);
  std::string common;
  for (const OptionSpec& option : common_options())
    common += fmt::format("{}{}{}", common.empty() ? "" : ", ",
                          option.letter != 0 ? fmt::format("-{}", option.letter) : fmt::format("--{}", option.name),
                          option.value != nullptr ? fmt::format(" {}", option.value) : "");
  screen.line();
  screen.paragraph("Options of every command: " + common, 0, help_width());
}

int run_help(Session& session, const Arguments& arguments) {
  if (arguments.words().empty()) {
    print_overview(session.screen());
    return 0;
  }
  const std::string& word = arguments.words()[0];
  if (const Command* const command = find_command(word); command != nullptr && !command->hidden) {
    print_help(session.screen(), *command);
    return 0;
  }
  std::vector<std::string> names;
  for (const Topic& topic : topics()) {
    if (word == topic.name) {
      print_topic(session.screen(), topic);
      return 0;
    }
    names.emplace_back(topic.name);
  }
  for (const Command& command : commands())
    if (!command.hidden) names.emplace_back(command.name);
  const std::string near = did_you_mean(word, names);
  throw Error(ErrorCode::Usage, fmt::format("there is no command or topic \"{}\"", printable(word)), {},
              near.empty() ? "`hambrel help` lists them" : near);
}

int run_version(Session& session, const Arguments&) {
  session.screen().line(session.json() ? "{\"version\":\"" HAMBREL_VERSION "\"}" : "hambrel " HAMBREL_VERSION);
  return 0;
}

int run_demo(Session& session, const Arguments& arguments) {
  const auto host = os::open_file_system("/");
  std::string story;
  // beside the program in its install prefix, where it was installed to, or in the source tree it was built from
  const std::string beside = fmt::format("/{}/../share/hambrel/demo", os::parent_of(os::host_path(os::program_path())));
  for (const std::string& directory : {beside, std::string(HAMBREL_DATA_DIR "/demo"), std::string(HAMBREL_SOURCE_DEMO)})
    if (story.empty() && host->stat_followed(os::host_path(directory + "/story.sh")))
      story = "/" + os::host_path(directory + "/story.sh");
  if (story.empty())
    throw Error(ErrorCode::NotFound, "the demo's files are not installed", HAMBREL_DATA_DIR "/demo",
                "run `cmake --install` again");
  setenv("HAMBREL", os::program_path().c_str(), 1);
  if (const auto keep = arguments.value("keep")) setenv("DEMO_DIR", ("/" + os::host_path(*keep)).c_str(), 1);
  if (const auto chapter = arguments.number("chapter")) setenv("DEMO_CHAPTER", std::to_string(*chapter).c_str(), 1);
  if (session.screen().color()) setenv("DEMO_COLOR", "always", 1);
  execl("/bin/bash", "bash", story.c_str(), static_cast<char*>(nullptr));
  throw_errno(errno, "cannot start bash", story);
}

}  // namespace hambrel::cli
