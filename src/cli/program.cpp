// From the words of the command line to a command, and from an Error to a message and an exit code.
#include <fmt/format.h>

#include <boost/program_options.hpp>

#include <algorithm>
#include <map>

#include "base/json.h"
#include "base/text.h"
#include "cli/session.h"
#include "cli/show/command_text.h"
#include "cli/show/package.h"
#include "operations/kept_list.h"
#include "os/host.h"

namespace hambrel::cli {

namespace po = boost::program_options;

int exit_code(ErrorCode code) {
  switch (code) {
    case ErrorCode::Usage: return 2;
    case ErrorCode::Refused: return 3;
    case ErrorCode::Declined: return 4;
    case ErrorCode::Untrusted: return 5;
    case ErrorCode::Locked: return 6;
    case ErrorCode::Unrecovered: return 7;
    case ErrorCode::Invalid:
    case ErrorCode::NotFound:
    case ErrorCode::Network:
    case ErrorCode::Io:
    case ErrorCode::Undecided:
    case ErrorCode::Internal: return 1;
  }
  return 1;
}

std::string_view name_of(ErrorCode code) {
  switch (code) {
    case ErrorCode::Usage: return "usage";
    case ErrorCode::Invalid: return "invalid";
    case ErrorCode::NotFound: return "not-found";
    case ErrorCode::Refused: return "refused";
    case ErrorCode::Declined: return "declined";
    case ErrorCode::Untrusted: return "untrusted";
    case ErrorCode::Locked: return "locked";
    case ErrorCode::Unrecovered: return "unrecovered";
    case ErrorCode::Network: return "network";
    case ErrorCode::Io: return "io";
    case ErrorCode::Undecided: return "undecided";
    case ErrorCode::Internal: return "internal";
  }
  return "internal";
}

const Command* find_command(std::string_view name) {
  for (const Command& command : commands())
    if (name == command.name) return &command;
  return nullptr;
}

std::optional<std::string> Arguments::value(const std::string& option) const {
  const auto found = values_.find(option);
  if (found == values_.end()) return std::nullopt;
  return found->second.back();
}

std::vector<std::string> Arguments::values(const std::string& option) const {
  const auto found = values_.find(option);
  return found == values_.end() ? std::vector<std::string>() : found->second;
}

std::optional<std::uint64_t> Arguments::number(const std::string& option) const {
  const auto given = value(option);
  if (!given) return std::nullopt;
  const auto parsed = parse_number(*given);
  if (!parsed)
    throw Error(ErrorCode::Usage, fmt::format("--{} {}: must be a number", option, printable(*given)), {},
                fmt::format("for example --{} 10", option));
  return parsed;
}

namespace {

/// The place of the command among the words: the first that is neither an option nor the value of one.
std::size_t command_at(const std::vector<std::string>& words) {
  for (std::size_t i = 0; i < words.size(); ++i) {
    if (!words[i].starts_with("-")) return i;
    for (const OptionSpec& option : common_options())
      if (option.value != nullptr && words[i] == std::string("--") + option.name) ++i;
  }
  return words.size();
}

[[noreturn]] void unknown_option(const std::string& given, const std::vector<OptionSpec>& known,
                                 const std::string& command) {
  std::vector<std::string> names;
  for (const OptionSpec& option : known) names.push_back(std::string("--") + option.name);
  const std::string near = did_you_mean(given, names);
  throw Error(ErrorCode::Usage, fmt::format("`hambrel {}` has no option {}", command, printable(given)), {},
              near.empty() ? fmt::format("`hambrel help {}` lists them", command) : near);
}

bool may_repeat(const std::vector<OptionSpec>& known, const std::string& name) {
  return std::any_of(known.begin(), known.end(),
                     [&](const OptionSpec& one) { return one.name == name && one.repeated; });
}

Arguments parse(const std::vector<std::string>& words, const Command& command) {
  const std::span<const OptionSpec> common = common_options();
  std::vector<OptionSpec> known(common.begin(), common.end());
  known.insert(known.end(), command.options.begin(), command.options.end());
  po::options_description description;
  for (const OptionSpec& option : known) {
    const std::string name = option.letter != 0 ? fmt::format("{},{}", option.name, option.letter) : option.name;
    if (option.value != nullptr)
      description.add_options()(name.c_str(), po::value<std::string>(), option.help);
    else
      description.add_options()(name.c_str(), option.help);
  }
  description.add_options()("words", po::value<std::vector<std::string>>());
  po::positional_options_description positional;
  positional.add("words", -1);
  Arguments arguments;
  try {
    const auto style = po::command_line_style::unix_style & ~po::command_line_style::allow_guessing;
    const auto parsed = po::command_line_parser(words).options(description).positional(positional).style(style).run();
    for (const auto& option : parsed.options) {
      if (option.string_key == "words") {
        for (const std::string& word : option.value) arguments.add_word(word);
      } else if (arguments.has(option.string_key) && !may_repeat(known, option.string_key)) {
        throw Error(ErrorCode::Usage, fmt::format("--{} was given twice", option.string_key));
      } else {
        arguments.set(option.string_key, option.value.empty() ? "" : option.value[0]);
      }
    }
  } catch (const po::unknown_option& problem) {
    unknown_option(problem.get_option_name(), known, command.name);
  } catch (const po::error& problem) {
    throw Error(ErrorCode::Usage, printable(problem.what()), {},
                fmt::format("`hambrel help {}` shows the options", command.name));
  }
  return arguments;
}

/// The value of the last --root among words that could not even be parsed.
std::string root_in(const std::vector<std::string>& words) {
  std::string root = "/";
  for (std::size_t i = 0; i < words.size(); ++i) {
    if (words[i] == "--root" && i + 1 < words.size()) root = words[i + 1];
    if (words[i].starts_with("--root=")) root = words[i].substr(7);
  }
  return root;
}

Screen::Color color_choice(const std::vector<std::string>& words) {
  std::string choice = "auto";
  for (std::size_t i = 0; i < words.size(); ++i) {
    if (words[i] == "--color" && i + 1 < words.size()) choice = words[i + 1];
    if (words[i].starts_with("--color=")) choice = words[i].substr(8);
  }
  if (choice == "always") return Screen::Color::Always;
  if (choice == "never") return Screen::Color::Never;
  return Screen::Color::Auto;
}

std::string command_line_of(const std::vector<std::string>& words) {
  std::string line = "hambrel";
  for (const std::string& word : words) {
    line += " " + shell_quoted(word);
  }
  return printable(shown_url(line));
}

int run(const Command& command, const Arguments& arguments, const std::vector<std::string>& words, Screen& screen,
        bool trust_compiled) {
  Session session(arguments, command_line_of(words), screen, trust_compiled);
  const bool only_shows = command.paged || arguments.has("dry-run");
  if (only_shows && !session.json() && !arguments.has("no-pager") && output_is_terminal()) screen.begin_page();
  const int code = command.run(session, arguments);
  screen.end_page();
  if (session.changes()) operations::KeptList::renew(session.root(), list_text);
  return code;
}

}  // namespace

Arguments parse_arguments(const std::vector<std::string>& words, const Command& command) {
  Arguments arguments = parse(words, command);
  arguments.set_command(command.name);
  // a plan that is saved is not carried out
  if (arguments.has("save") && !arguments.has("download-only") && !arguments.has("dry-run"))
    arguments.set("dry-run", "");
  return arguments;
}

namespace {

/// Without a command: the most common ones, all of them with --help, or the version.
int run_nothing(const std::vector<std::string>& words, Screen& screen) {
  const auto given = [&](const char* word) { return std::find(words.begin(), words.end(), word) != words.end(); };
  Arguments none;
  if (given("--json")) none.set("json", "");
  Session session(none, "hambrel", screen);
  if (given("--version")) return run_version(session, none);
  if (given("--help") || given("-h")) return run_help(session, none);
  for (const std::string& word : words) {
    const std::span<const OptionSpec> common = common_options();
    const bool known = !word.starts_with("-") || std::any_of(common.begin(), common.end(), [&](const OptionSpec& one) {
      const std::string name = fmt::format("--{}", one.name);
      return word == name || word.starts_with(name + "=") ||
             (one.letter != 0 && word == fmt::format("-{}", one.letter));
    });
    if (!known) throw Error(ErrorCode::Usage, "no command was given", {}, "`hambrel help` lists them");
  }
  print_common_tasks(screen);
  return 0;
}

/// What people type who know other words for it.
std::string command_for(const std::string& word) {
  static const std::map<std::string, const char*> kWords{
      {"uninstall", "`hambrel remove NAME` removes packages"},
      {"delete", "`hambrel remove NAME` removes packages"},
      {"erase", "`hambrel remove NAME` removes packages"},
      {"purge", "`hambrel remove --purge NAME` removes packages with their edited configuration"},
      {"add", "`hambrel install NAME` installs packages, `hambrel repo add URL` adds a repository"},
      {"sync", "`hambrel refresh` asks the repositories what is new"},
      {"find", "`hambrel search WORD` finds packages"},
      {"query", "`hambrel search WORD` finds packages, `hambrel list` shows what is installed"},
      {"provides", "`hambrel owner PATH` shows which package a file belongs to"},
      {"which", "`hambrel owner PATH` shows which package a file belongs to"},
      {"pin", "`hambrel hold NAME` keeps a package at its version"},
      {"lock", "`hambrel hold NAME` keeps a package at its version"},
      {"held", "`hambrel list held` shows held packages"},
      {"unhold", "`hambrel release NAME` ends a hold"},
      {"unpin", "`hambrel release NAME` ends a hold"},
      {"unlock", "`hambrel release NAME` ends a hold"},
      {"fix", "`hambrel repair` restores damaged files"},
      {"check", "`hambrel verify` compares files with their packages"},
      {"repos", "`hambrel repo list` shows the repositories"},
      {"revert", "`hambrel undo N` undoes a transaction, `hambrel rollback N` returns to the state after one"},
      {"update", "`hambrel refresh` asks the repositories what is new, `hambrel upgrade` upgrades packages"},
      {"info", "`hambrel describe NAME` shows everything about a package"},
      {"show", "`hambrel describe NAME` shows everything about a package"},
      {"history", "`hambrel ledger` lists what was done"},
      {"log", "`hambrel ledger` lists what was done"},
      {"clean", "`hambrel tidy` shows what can be freed"},
      {"status", "`hambrel list` shows what is installed, `hambrel verify` compares files with their packages"},
      {"reinstall", "`hambrel repair NAME` restores damaged files"},
      {"depends", "`hambrel needs NAME` and `hambrel needed-by NAME` show dependencies"}};
  const auto found = kWords.find(word);
  return found == kWords.end() ? std::string() : found->second;
}

[[noreturn]] void unknown_command(const std::string& word) {
  std::string hint = command_for(word);
  if (hint.empty()) {
    std::vector<std::string> names;
    for (const Command& one : commands())
      if (!one.hidden) names.emplace_back(one.name);
    hint = did_you_mean(word, names);
  }
  throw Error(ErrorCode::Usage, fmt::format("no command is called \"{}\"", printable(word)), {},
              hint.empty() ? "`hambrel help` lists them" : hint);
}

int dispatch(const std::vector<std::string>& words, Screen& screen) {
  const std::size_t at = command_at(words);
  if (at == words.size()) return run_nothing(words, screen);
  const Command* const command = find_command(words[at]);
  if (command == nullptr) unknown_command(words[at]);
  std::vector<std::string> rest = words;
  rest.erase(rest.begin() + static_cast<std::ptrdiff_t>(at));
  const Arguments arguments = parse_arguments(rest, *command);
  if (arguments.has("help")) {
    print_help(screen, *command);
    return 0;
  }
  if (const auto color = arguments.value("color"); color && *color != "auto" && *color != "always" && *color != "never")
    throw Error(ErrorCode::Usage, fmt::format("--color {}: must be auto, always or never", printable(*color)), {},
                "auto shows colours on a terminal only");
  if (arguments.words().size() < command->fewest || arguments.words().size() > command->most)
    throw Error(ErrorCode::Usage, fmt::format("usage: hambrel {} {}", command->name, command->usage), {},
                fmt::format("`hambrel help {}` shows examples", command->name));
  constexpr int kMostTries = 20, kPause = 50;  // milliseconds; while others change the state
  for (int tries = 1;; ++tries) {
    try {
      return run(*command, arguments, words, screen, true);
    } catch (const DamagedImage&) {
      if (screen.wrote()) throw;  // what was said can't be taken back
      break;
    } catch (const operations::StateMoved&) {
      if (screen.wrote() || tries == kMostTries) throw;
      os::sleep_milliseconds(kPause);
    }
  }
  screen.note("a compiled index is damaged and was not used; `hambrel refresh` makes a new one");
  return run(*command, arguments, words, screen, false);
}

void tell(const Screen& screen, const Error& problem, bool json, const std::string& root) {
  if (json) {
    screen.line(canonical({{"error",
                            {{"code", exit_code(problem.code())},
                             {"kind", name_of(problem.code())},
                             {"problem", printable(problem.problem())},
                             {"where", printable(problem.where())},
                             {"hint", printable(with_root(problem.hint(), root))}}}}));
    return;
  }
  const bool declined = problem.code() == ErrorCode::Declined;
  const char* word = declined ? "Cancelled: " : "Failed: ";
  if (problem.code() == ErrorCode::Refused) word = "Refused: ";
  screen.problem(fmt::format("{}{}{}", screen.paint_error(Style::Warn, word),
                             problem.where().empty() ? "" : printable(problem.where()) + ": ",
                             printable(problem.problem())));
  if (!problem.hint().empty()) screen.hint(printable(problem.hint()));
}

}  // namespace

int run_program(const std::vector<std::string>& words) {
  const bool json = std::find(words.begin(), words.end(), "--json") != words.end();
  Screen screen(color_choice(words), json);
  screen.acts_on(root_in(words));
  try {
    const int code = dispatch(words, screen);
    errno = EIO;
    if (std::fflush(stdout) != 0 || std::ferror(stdout) != 0)
      throw_errno(errno, "cannot write the output", "standard output");
    return code;
  } catch (...) {
    const Error problem = current_error();
    screen.show_held();
    tell(screen, problem, json, root_in(words));
    return exit_code(problem.code());
  }
}

}  // namespace hambrel::cli
