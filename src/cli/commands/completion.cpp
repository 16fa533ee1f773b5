// completion, and the words that it asks for.
#include <fmt/format.h>

#include "cli/session.h"
#include "operations/configuration.h"
#include "operations/repositories.h"

namespace hambrel::cli {

int run_completion(Session& session, const Arguments& arguments) {
  if (arguments.words()[0] != "bash")
    throw Error(ErrorCode::Usage, fmt::format("no completion for \"{}\"", arguments.words()[0]), {},
                "there is one for bash");
  session.screen().raw(R"bash(# completion of hambrel for bash; the program itself knows the words
_hambrel() {
  local cur prev words cword
  _init_completion -n =:@ || return
  local IFS=$'\n'
  COMPREPLY=($(compgen -W "$(hambrel complete-words -- "${words[@]:1:cword}" 2>/dev/null)" -- "$cur"))
  [[ ${#COMPREPLY[@]} -eq 0 && ( $cur == ./* || $cur == /* || $prev == pack || $prev == publish || $prev == --root ) ]] && _filedir
  __ltrim_colon_completions "$cur"
}
complete -F _hambrel hambrel
)bash");
  return 0;
}

namespace {

using Say = std::function<void(std::string_view)>;

/// What may follow a command, beside options.
void say_words_of(const std::string& command, Session& there, const Say& say) {
  static const std::set<std::string> kOfInstalled{"remove", "upgrade", "needed-by", "hold",   "release", "want",
                                                  "unwant", "shelve",  "downgrade", "verify", "repair"};
  static const std::set<std::string> kOfAny{"install", "describe", "files", "why", "needs"};
  const auto say_all = [&](std::initializer_list<const char*> all) {
    for (const char* const one : all) say(one);
  };
  if (kOfInstalled.contains(command)) {
    for (const PackageId id : there.universe().installed()) say(there.universe().name(id));
  } else if (kOfAny.contains(command)) {
    for (const std::string& one : there.universe().names()) say(one);
  } else if (command == "refresh") {
    for (const auto& one : operations::repositories(there.root())) say(one.repository.name);
  } else if (command == "list") {
    say_all({"installed", "available", "upgradable", "wanted", "pulled-in", "unneeded", "held", "stray", "shelved",
             "leftover", "name:", "repo:", "channel:", "arch:", "size>", "size<", "not:"});
  } else if (command == "tidy") {
    say_all({"unneeded", "configs", "cache", "attic"});
  } else if (command == "configs") {
    say_all({"diff", "settle"});
    for (const auto& one : operations::configuration_files(there.root())) say("/" + one.path);
  }
}

void say_commands(const Say& say) {
  for (const Command& one : commands())
    if (!one.hidden) say(one.name);
}

}  // namespace

int run_complete_words(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  const Say say = [&](std::string_view word) { session.screen().line(word); };
  const Command* command = nullptr;
  for (std::size_t i = 0; i + 1 < words.size() && command == nullptr; ++i) command = find_command(words[i]);
  if (!words.empty() && words.back().starts_with("-")) {
    for (const OptionSpec& option : common_options()) say(fmt::format("--{}", option.name));
    if (command != nullptr)
      for (const OptionSpec& option : command->options) say(fmt::format("--{}", option.name));
    return 0;
  }
  if (command == nullptr || std::string_view(command->name) == "help") {
    say_commands(say);
    return 0;
  }
  Arguments typed;  // the root that the line being typed speaks of
  typed.set("root", session.root_path());
  for (std::size_t i = 0; i + 1 < words.size(); ++i)
    if (words[i] == "--root") typed.set("root", words[i + 1]);
  Screen quiet(Screen::Color::Never);
  Session there(typed, "", quiet);
  say_words_of(command->name, there, say);
  return 0;
}

}  // namespace hambrel::cli
