// Commands as data: one table, made from words/commands.toml, gives parsing, help, completion and the manual page.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"
#include "cli/terminal/screen.h"

namespace hambrel::cli {

/// What completes a word.
enum class Kind : std::uint8_t {
  None,
  Installed,
  Held,
  NotHeld,
  Wanted,
  PulledIn,
  Shelved,
  Packages,
  Repositories,
  Checkpoints,
  Transactions,
  Moments,  // transactions and checkpoints
  Directories,
  Files,
  Paths,
  Configs,
  Conditions,
  Commands,
  LedgerKinds,
  Services,  // of installed packages
  Served     // paths that have candidates
};

/// A word that may come first, and what may follow it.
struct FirstWord {
  const char* word;
  Kind then;
};

/// One of the first words, where there are some, else words of a kind.
struct Completion {
  Kind kind = Kind::None;
  std::span<const FirstWord> first;
};

struct OptionSpec {
  const char* name;   // without the dashes
  char letter;        // 0: none
  const char* value;  // name of its value in help; nullptr: a switch
  const char* help;
  bool repeated;  // may be given several times
  Completion complete;
};

struct Example {
  const char* line;
  const char* meaning;
};

class Arguments {
 public:
  bool has(const std::string& option) const { return values_.contains(option); }
  std::optional<std::string> value(const std::string& option) const;
  /// The values of an option that may be repeated, in the order in which they were given.
  std::vector<std::string> values(const std::string& option) const;
  /// The whole number that an option was given; throws Error{Usage} for anything else.
  std::optional<std::uint64_t> number(const std::string& option) const;
  const std::vector<std::string>& words() const { return words_; }
  /// The command that they are of.
  const std::string& command() const { return command_; }
  void set_command(const std::string& name) { command_ = name; }
  void set(const std::string& option, const std::string& value) { values_[option].push_back(value); }
  void add_word(const std::string& word) { words_.push_back(word); }

 private:
  std::map<std::string, std::vector<std::string>> values_;
  std::vector<std::string> words_;
  std::string command_;
};

class Session;

struct Command {
  const char* name;
  const char* task;     // the heading that it stands under
  const char* usage;    // what follows the name
  const char* summary;  // one line
  const char* text;     // more, may be empty
  std::span<const OptionSpec> options;
  std::span<const Example> examples;
  std::size_t fewest, most;  // words after the name
  Completion complete;
  int (*run)(Session& session, const Arguments& arguments);
  bool hidden, paged;  // paged: only shows, so that what is long goes through a pager
};

/// A subject that help explains. Lines of its text that begin with two blanks stay as they are.
struct Topic {
  const char* name;
  const char* summary;
  const char* text;
};

/// Options that every command understands.
std::span<const OptionSpec> common_options();
/// All commands, in the order in which help shows them.
std::span<const Command> commands();
const Command* find_command(std::string_view name);
std::span<const Topic> topics();

// Each lives in the file of its name.
int run_pack(Session&, const Arguments&);
int run_build(Session&, const Arguments&);
int run_recipe(Session&, const Arguments&);
int run_options(Session&, const Arguments&);
int run_graph(Session&, const Arguments&);
int run_report(Session&, const Arguments&);
int run_publish(Session&, const Arguments&);
int run_key(Session&, const Arguments&);
int run_serve(Session&, const Arguments&);
int run_repo(Session&, const Arguments&);
int run_refresh(Session&, const Arguments&);
int run_search(Session&, const Arguments&);
int run_describe(Session&, const Arguments&);
int run_list(Session&, const Arguments&);
int run_group(Session&, const Arguments&);
int run_files(Session&, const Arguments&);
int run_owner(Session&, const Arguments&);
int run_install(Session&, const Arguments&);
int run_remove(Session&, const Arguments&);
int run_upgrade(Session&, const Arguments&);
int run_downgrade(Session&, const Arguments&);
int run_change(Session&, const Arguments&);
int run_apply(Session&, const Arguments&);
int run_follow(Session&, const Arguments&);
int run_export_set(Session&, const Arguments&);
int run_import_set(Session&, const Arguments&);
int run_compare(Session&, const Arguments&);
int run_hold(Session&, const Arguments&);
int run_release(Session&, const Arguments&);
int run_want(Session&, const Arguments&);
int run_unwant(Session&, const Arguments&);
int run_shelve(Session&, const Arguments&);
int run_unshelve(Session&, const Arguments&);
int run_activate(Session&, const Arguments&);
int run_why(Session&, const Arguments&);
int run_needs(Session&, const Arguments&);
int run_needed_by(Session&, const Arguments&);
int run_undo(Session&, const Arguments&);
int run_redo(Session&, const Arguments&);
int run_rollback(Session&, const Arguments&);
int run_checkpoint(Session&, const Arguments&);
int run_ledger(Session&, const Arguments&);
int run_configs(Session&, const Arguments&);
int run_pick(Session&, const Arguments&);
int run_services(Session&, const Arguments&);
int run_tidy(Session&, const Arguments&);
int run_recover(Session&, const Arguments&);
int run_verify(Session&, const Arguments&);
int run_repair(Session&, const Arguments&);
int run_rebuild(Session&, const Arguments&);  // repair --rebuild
int run_help(Session&, const Arguments&);
int run_completion(Session&, const Arguments&);
int run_complete_words(Session&, const Arguments&);
int run_version(Session&, const Arguments&);
int run_demo(Session&, const Arguments&);

/// What people do most, by task.
void print_common_tasks(const Screen& screen);
/// Help for one command.
void print_help(const Screen& screen, const Command& command);

/// Throws Error{Usage}. `words` without the command itself.
Arguments parse_arguments(const std::vector<std::string>& words, const Command& command);

int exit_code(ErrorCode code);
/// The whole program; returns its exit code.
int run_program(const std::vector<std::string>& words);

}  // namespace hambrel::cli
