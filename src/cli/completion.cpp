// completion, and the words that it asks for.
#include <fmt/format.h>

#include <set>

#include "base/text.h"
#include "cli/session.h"
#include "operations/checkpoints.h"
#include "operations/configuration.h"
#include "operations/ledger.h"
#include "operations/looking.h"
#include "operations/picks.h"
#include "operations/repositories.h"
#include "operations/services.h"

namespace hambrel::cli {

namespace {

// What the scripts are told instead of words: the shell itself knows these best.
constexpr std::string_view kDirectories = ":directories", kFiles = ":files";

constexpr const char* kBash = R"bash(# completion of hambrel for bash; the program itself knows the words
_hambrel() {
  local cur=${COMP_WORDS[COMP_CWORD]} rest=${COMP_LINE:0:COMP_POINT} i word blank typed head line
  local -a words=()
  # bash cuts words at characters such as = and :, the program wants them whole
  for ((i = 0; i <= COMP_CWORD; i++)); do
    word=${COMP_WORDS[i]} blank=
    while [[ $rest == [[:space:]]* ]]; do rest=${rest:1} blank=1; done
    ((${#rest} >= ${#word})) || word=$rest
    if [[ $blank || $i -eq 0 ]]; then words+=("$word"); else words[-1]+=$word; fi
    rest=${rest:${#word}}
  done
  typed=${words[-1]#[\'\"]} cur=${cur#[\'\"]}
  # bash replaces what follows the last of these characters
  head=${typed%"$cur"}
  [[ $cur != [=:@\<\>] ]] || head=$typed
  COMPREPLY=()
  compopt -o nosort
  while IFS= read -r line; do
    case $line in
      :directories) compopt -o filenames; mapfile -t COMPREPLY < <(compgen -d -- "$cur"); return ;;
      :files) compopt -o filenames; mapfile -t COMPREPLY < <(compgen -f -- "$cur"); return ;;
    esac
    line=${line%%$'\t'*}
    printf -v line %q "${line#"$head"}"
    COMPREPLY+=("$line")
  done < <(hambrel complete-words -- "${words[@]:1:${#words[@]}-2}" "$typed" 2>/dev/null)
  [[ ${#COMPREPLY[@]} -ne 1 || ${COMPREPLY[0]} != *[:\<\>=] ]] || compopt -o nospace
}
complete -F _hambrel hambrel
)bash";

constexpr const char* kZsh = R"zsh(#compdef hambrel
# completion of hambrel for zsh; the program itself knows the words
_hambrel() {
  local -a lines names texts open open_texts
  local line
  lines=("${(@f)$(hambrel complete-words -- "${(@Q)words[2,CURRENT-1]}" "${(Q)PREFIX}" 2>/dev/null)}")
  case $lines[1] in
    (:directories) _files -/; return ;;
    (:files) _files; return ;;
    ('') return 1 ;;
  esac
  for line in $lines; do
    if [[ ${line%%$'\t'*} == *[:\<\>=] ]]; then
      open+=("${line%%$'\t'*}") open_texts+=("${line/$'\t'/  -- }")
    else
      names+=("${line%%$'\t'*}") texts+=("${line/$'\t'/  -- }")
    fi
  done
  compadd -V hambrel -d texts -a names
  compadd -V hambrel -S '' -d open_texts -a open
}
if [[ $funcstack[1] == _hambrel ]]; then _hambrel "$@"; else compdef _hambrel hambrel; fi
)zsh";

constexpr const char* kFish = R"fish(# completion of hambrel for fish; the program itself knows the words
function __hambrel_words
    set -l words (commandline -opc)
    set -l typed (commandline -ct)
    set -e words[1]
    set -l lines (hambrel complete-words -- $words "$typed" 2>/dev/null)
    switch "$lines[1]"
        case :directories
            __fish_complete_directories "$typed"
        case :files
            __fish_complete_path "$typed"
        case '*'
            printf '%s\n' $lines
    end
end
complete -c hambrel -f -k -a '(__hambrel_words)'
)fish";

}  // namespace

int run_completion(Session& session, const Arguments& arguments) {
  const std::string& shell = arguments.words()[0];
  if (shell != "bash" && shell != "zsh" && shell != "fish")
    throw Error(ErrorCode::Usage, fmt::format("there is no completion for \"{}\"", printable(shell)), {},
                "available for bash, zsh and fish");
  std::string_view script = shell == "zsh" ? kZsh : kFish;
  if (shell == "bash") script = kBash;
  session.screen().raw(script);
  return 0;
}

namespace {

/// Prints what may stand in the place of a word of which a part is typed.
class Candidates {
 public:
  Candidates(const Screen& screen, std::string typed, Session& there)
      : screen_(screen), typed_(std::move(typed)), there_(there) {}

  void say(std::string_view word, std::string_view text = {}) const {
    if (!word.starts_with(typed_)) return;
    if (text.empty() && before_.empty() && is_plain(word)) {  // most of thousands
      screen_.write(word);
      screen_.write("\n");
      return;
    }
    screen_.write(fmt::format("{}{}{}{}\n", before_, printable(word), text.empty() ? "" : "\t", printable(text)));
  }
  void say(const Completion& expected, std::size_t place, const std::string& first) const {
    if (expected.first.empty()) return say(expected.kind);
    for (const FirstWord& one : expected.first) {
      if (place == 0) say(one.word);
      if (place > 0 && one.word == first) say(one.then);
    }
  }
  void say(Kind kind) const;
  /// Of a word such as --option=VALUE the part behind this is what is asked for.
  Candidates behind(std::size_t size) const {
    Candidates rest(screen_, typed_.substr(size), there_);
    rest.before_ = before_ + typed_.substr(0, size);
    return rest;
  }
  const std::string& typed() const { return typed_; }

 private:
  void say_directive(std::string_view directive) const { screen_.line(directive); }
  void say_packages(Kind kind) const;
  void say_installed(Kind kind) const;
  void say_conditions() const;
  void say_transactions() const;
  void say_checkpoints() const;

  const Screen& screen_;
  std::string typed_, before_;
  Session& there_;
};

void Candidates::say_installed(Kind kind) const {
  const Universe& universe = there_.universe();
  for (const PackageId id : universe.installed()) {
    if (kind == Kind::Held && !universe.held(id)) continue;
    if (kind == Kind::NotHeld && universe.held(id)) continue;
    if (kind == Kind::Wanted && !universe.wanted(id)) continue;
    if (kind == Kind::PulledIn && universe.wanted(id)) continue;
    say(universe.name(id), universe.summary(id));
  }
}

/// Names; behind = and @ the versions and channels of one.
void Candidates::say_packages(Kind kind) const {
  if (typed_.starts_with("/") || typed_.starts_with(".")) return say_directive(kFiles);
  const Universe& universe = there_.universe();
  const std::size_t sign = typed_.find_first_of("=@");
  if (sign != std::string::npos) {
    const std::string name = typed_.substr(0, sign);
    std::set<std::string> told;  // one version may be there for two architectures
    for (const PackageId id : universe.versions_of(name)) {
      if (typed_[sign] == '=' && told.emplace(universe.version(id)).second)
        say(fmt::format("{}={}", name, universe.version(id)), universe.is_installed(id) ? "installed" : "");
      if (typed_[sign] == '=') continue;
      for (const Offer& offer : universe[id].offers)
        if (told.insert(offer.channel).second) say(fmt::format("{}@{}", name, offer.channel), offer.repository);
    }
    return;
  }
  if (kind != Kind::Packages) return say_installed(kind);
  constexpr std::size_t kFew = 2000;  // of more nobody reads what they are
  const std::vector<NameId> names = universe.names_with_prefix(typed_);
  if (names.size() > kFew) {
    for (const std::string& name : universe.names()) say(name);
    return;
  }
  for (const NameId name : names)
    if (const auto versions = universe.versions_of(name); !versions.empty())
      say(universe.name(name), universe.summary(versions.front()));
}

void Candidates::say_conditions() const {
  const auto behind_colon = [&](std::string_view word, auto&& tell) {
    if (typed_.starts_with(word)) tell(behind(word.size()));
    return typed_.starts_with(word);
  };
  if (behind_colon("not:", [](const Candidates& rest) { rest.say_conditions(); }) ||
      behind_colon("repo:", [](const Candidates& rest) { rest.say(Kind::Repositories); }) ||
      behind_colon("name:", [](const Candidates& rest) { rest.say(Kind::Packages); }))
    return;
  for (const char* const one :
       {"installed", "available", "upgradable", "wanted",     "pulled-in", "unneeded", "held",
        "stray",     "broken",    "generated",  "vulnerable", "buildable", "shelved",  "leftover",
        "name:",     "repo:",     "channel:",   "arch:",      "size>",     "size<",    "not:"})
    say(one);
}

void Candidates::say_transactions() const {
  constexpr std::uint64_t kMost = 50;  // the newest
  for (const operations::LedgerEntry& one : operations::ledger_entries(there_.root(), kMost))
    say(std::to_string(number(one.id)), one.command);
}

void Candidates::say_checkpoints() const {
  for (const auto& one : operations::checkpoints(there_.root())) say(one.checkpoint.name, one.checkpoint.note);
}

void Candidates::say(Kind kind) const {
  switch (kind) {
    case Kind::None: return;
    case Kind::Installed:
    case Kind::Held:
    case Kind::NotHeld:
    case Kind::Wanted:
    case Kind::PulledIn:
    case Kind::Packages: return say_packages(kind);
    case Kind::Shelved:
      for (const auto& one : operations::shelved(there_.root())) say(one.package.name, one.package.summary);
      return;
    case Kind::Repositories:
      for (const auto& one : operations::repositories(there_.root()))
        say(one.repository.name, shown_url(one.repository.url));
      return;
    case Kind::Checkpoints: return say_checkpoints();
    case Kind::Moments: say_checkpoints(); [[fallthrough]];
    case Kind::Transactions: return say_transactions();
    case Kind::Directories: return say_directive(kDirectories);
    case Kind::Files:
    case Kind::Paths: return say_directive(kFiles);
    case Kind::Configs:
      for (const auto& one : operations::configuration_files(there_.root())) say("/" + one.path);
      return;
    case Kind::Conditions: return say_conditions();
    case Kind::Services:
      for (const auto& one : operations::service_list(there_.root(), false).lines) say(one.name, one.package);
      return;
    case Kind::Served: {
      std::set<std::string> told;
      for (const auto& one : operations::candidates(there_.root()))
        if (told.insert(one.path).second) say("/" + one.path);
      return;
    }
    case Kind::Commands:
      for (const Command& one : commands())
        if (!one.hidden) say(one.name, one.summary);
      for (const Topic& one : topics()) say(one.name, one.summary);
      return;
    case Kind::LedgerKinds:
      for (const std::string& one : operations::ledger_kinds()) say(one);
      return;
  }
}

/// The line that is being typed, as far as the word that is asked for.
struct Typed {
  const Command* command = nullptr;
  const OptionSpec* option = nullptr;  // whose value is asked for
  std::vector<std::string> words;      // behind the command, without options
  std::string root;
};

const OptionSpec* find_option(const Command* command, std::string_view word) {
  const auto named = [&](std::span<const OptionSpec> options) -> const OptionSpec* {
    for (const OptionSpec& one : options)
      if (word == fmt::format("--{}", one.name) || (one.letter != 0 && word == fmt::format("-{}", one.letter)))
        return &one;
    return nullptr;
  };
  if (const OptionSpec* const common = named(common_options())) return common;
  return command != nullptr ? named(command->options) : nullptr;
}

Typed read_typed(const std::vector<std::string>& words) {
  Typed typed;
  for (std::size_t i = 0; i + 1 < words.size(); ++i) {
    const std::string& word = words[i];
    if (word.starts_with("--root=")) typed.root = word.substr(std::string_view("--root=").size());
    if (!word.starts_with("-")) {
      if (typed.command == nullptr)
        typed.command = find_command(word);
      else
        typed.words.push_back(word);
      continue;
    }
    const OptionSpec* const option = find_option(typed.command, word);
    if (option == nullptr || option->value == nullptr) continue;
    if (i + 2 == words.size()) typed.option = option;
    if (std::string_view(option->name) == "root") typed.root = words[i + 1];
    ++i;
  }
  return typed;
}

void say_options(const Candidates& candidates, const Command* command) {
  for (const OptionSpec& option : common_options()) candidates.say(fmt::format("--{}", option.name), option.help);
  if (command == nullptr) return;
  for (const OptionSpec& option : command->options) candidates.say(fmt::format("--{}", option.name), option.help);
}

}  // namespace

int run_complete_words(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  if (words.empty()) return 0;
  const Typed typed = read_typed(words);
  Arguments there_arguments;  // the root that the line being typed speaks of
  there_arguments.set("root", typed.root.empty() ? session.root_path() : typed.root);
  Screen quiet(Screen::Color::Never);
  Session there(there_arguments, "", quiet);
  const Candidates candidates(session.screen(), words.back(), there);
  const std::size_t equals = words.back().find('=');
  if (typed.option != nullptr) {
    candidates.say(typed.option->complete, 0, {});
  } else if (words.back().starts_with("--") && equals != std::string::npos) {
    if (const OptionSpec* const option = find_option(typed.command, words.back().substr(0, equals)))
      candidates.behind(equals + 1).say(option->complete, 0, {});
  } else if (words.back().starts_with("-")) {
    say_options(candidates, typed.command);
  } else if (typed.command == nullptr) {
    for (const Command& one : commands())
      if (!one.hidden) candidates.say(one.name, one.summary);
  } else if (typed.words.size() < typed.command->most) {
    candidates.say(typed.command->complete, typed.words.size(), typed.words.empty() ? "" : typed.words.front());
  }
  return 0;
}

}  // namespace hambrel::cli
