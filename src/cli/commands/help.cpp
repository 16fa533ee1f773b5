// help, version, demo.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>

#include "cli/session.h"
#include "cli/terminal/table.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

std::string option_text(const OptionSpec& option) {
  std::string text =
      option.letter != 0 ? fmt::format("-{}, --{}", option.letter, option.name) : fmt::format("    --{}", option.name);
  if (option.value != nullptr) text += fmt::format(" {}", option.value);
  return text;
}

void print_options(const Screen& screen, const std::vector<OptionSpec>& options) {
  Table table;
  for (const OptionSpec& option : options) table.row({{option_text(option), Style::Come}, {option.help}});
  table.print(screen);
}

void print_overview(const Screen& screen) {
  screen.line("hambrel installs, upgrades and removes packages, and takes everything back again.");
  std::string group;
  std::size_t widest = 0;
  for (const Command& command : commands())
    if (!command.hidden) widest = std::max(widest, std::string_view(command.name).size());
  for (const Command& command : commands()) {
    if (command.hidden) continue;
    if (group != command.group) {
      group = command.group;
      screen.line();
      screen.line(screen.paint(Style::Strong, group));
    }
    screen.line(fmt::format("  {}{}{}", screen.paint(Style::Name, command.name),
                            std::string(widest + 2 - std::string_view(command.name).size(), ' '), command.summary));
  }
  screen.line();
  screen.line(screen.paint(Style::Strong, "Options of every command"));
  print_options(screen, common_options());
  screen.line();
  screen.line(
      "`hambrel help COMMAND` has examples. Exit codes: 0 done, 1 failed, 2 wrong usage, 3 refused, 4 declined,");
  screen.line("5 not trusted, 6 locked, 7 not recovered; 10 from `list --exit-code`, 11 damage that `verify` found.");
}

}  // namespace

void print_common_tasks(const Screen& screen) {
  constexpr std::size_t kWidest = 24;  // columns of the longest command, and two blanks
  const auto task = [&](const char* title, std::initializer_list<std::pair<const char*, const char*>> commands) {
    screen.line();
    screen.line(screen.paint(Style::Strong, title));
    for (const auto& [command, meaning] : commands)
      screen.line(fmt::format("  {}{}{}", screen.paint(Style::Name, command),
                              std::string(kWidest - std::string_view(command).size(), ' '), meaning));
  };
  screen.line("hambrel installs, upgrades and removes packages, and takes every change back again.");
  task("Find", {{"hambrel search WORD", "packages that have to do with a word"},
                {"hambrel describe NAME", "everything about a package"},
                {"hambrel list", "what is installed"}});
  task("Change", {{"hambrel refresh", "ask the repositories what is new"},
                  {"hambrel install NAME", "with all that it needs"},
                  {"hambrel upgrade", "everything, or what is named"},
                  {"hambrel remove NAME", "its edited configuration stays, unless --purge is given"},
                  {"hambrel configs", "configuration that was edited, and what waits to be settled"}});
  task("Go back", {{"hambrel ledger", "what was done, by whom, and why"},
                   {"hambrel undo N", "take a transaction back"},
                   {"hambrel rollback N", "go back to how things were after a transaction"},
                   {"hambrel verify", "is every file as it was installed?"}});
  screen.line();
  screen.line("Every change shows its plan and asks first; -n shows it only. `hambrel help` lists all commands,");
  screen.line("`hambrel help COMMAND` explains one. For a first look: hambrel demo");
}

void print_help(const Screen& screen, const Command& command) {
  screen.line(
      fmt::format("{} {}", screen.paint(Style::Strong, fmt::format("hambrel {}", command.name)), command.usage));
  screen.line(fmt::format("  {}.", command.summary));
  if (*command.text != '\0') screen.raw("\n" + wrapped(command.text, 2, std::min<std::size_t>(100, terminal_width())));
  if (!command.options.empty()) {
    screen.line();
    print_options(screen, command.options);
  }
  screen.line();
  screen.line(screen.paint(Style::Faint, "Examples"));
  Table table;
  for (const Example& example : command.examples) table.row({{example.line}, {example.meaning, Style::Faint}});
  table.print(screen);
  screen.line();
  screen.line(screen.paint(
      Style::Faint, "Options of every command: --root DIR, --config FILE, --json, --color WHEN, -y, -q, -v, -h"));
}

int run_help(Session& session, const Arguments& arguments) {
  if (arguments.words().empty()) {
    print_overview(session.screen());
    return 0;
  }
  const Command* const command = find_command(arguments.words()[0]);
  if (command == nullptr || command->hidden)
    throw Error(ErrorCode::Usage, fmt::format("no command is called \"{}\"", arguments.words()[0]), {},
                "`hambrel help` lists them");
  print_help(session.screen(), *command);
  return 0;
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
  if (session.screen().color()) setenv("DEMO_COLOR", "always", 1);
  execl("/bin/bash", "bash", story.c_str(), static_cast<char*>(nullptr));
  throw_errno(errno, "cannot start bash", story);
}

}  // namespace hambrel::cli
