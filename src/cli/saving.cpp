#include "cli/saving.h"

#include <fmt/format.h>

#include <set>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/outcome.h"
#include "cli/show/plan.h"
#include "cli/terminal/config_dialogue.h"
#include "cli/terminal/question_dialogue.h"
#include "operations/saved_plan.h"

namespace hambrel::cli {

namespace {

/// The command as it would be given again, without what concerns this run only.
operations::CommandWords words_of(const Arguments& arguments) {
  static const std::set<std::string> kOfThisRun{
      "save",     "root",     "config",  "json",          "color",   "yes",    "quiet", "help",   "verbose",
      "progress", "no-pager", "dry-run", "download-only", "prepare", "reason", "wait",  "refresh"};
  operations::CommandWords words{arguments.command()};
  const Command* const command = find_command(arguments.command());
  for (const OptionSpec& option : command->options) {
    if (kOfThisRun.contains(option.name) || !arguments.has(option.name)) continue;
    for (const std::string& value : arguments.values(option.name)) {
      words.push_back(fmt::format("--{}", option.name));
      if (option.value != nullptr) words.push_back(value);
    }
  }
  words.insert(words.end(), arguments.words().begin(), arguments.words().end());
  for (std::string& word : words) word = shown_url(word);
  return words;
}

}  // namespace

int save(Session& session, const Arguments& arguments, std::unique_ptr<operations::Proposal> proposal) {
  if (arguments.has("no-files"))
    throw Error(ErrorCode::Usage, "--save and --no-files cannot be combined", {},
                "a plan is saved with all that it does to files");
  if (proposal->does_nothing()) {
    show_nothing(session, *proposal);
    return 0;
  }
  show(session, arguments, *proposal);
  const bool is_open = !proposal->questions().empty() || !proposal->questions_of_packages().empty();
  if (is_open) {
    if (session.json() || arguments.has("yes") || !can_ask())
      throw Error(ErrorCode::Declined, "the plan has open questions, which must be answered before it is saved", {},
                  "answer them on a terminal, or by --configs and --answers");
    operations::Decisions decisions;
    if (!proposal->questions().empty()) decisions = ask_about(session, proposal->questions());
    proposal = proposal->decided(std::move(decisions), ask_for(session, proposal->questions_of_packages()));
  }
  const std::string file = *arguments.value("save");
  operations::save_plan(session.root(), *proposal, words_of(arguments), file);
  if (!session.json() && !session.quiet())
    session.screen().line(fmt::format("Saved; nothing was changed. To carry it out: {}",
                                      session.copyable("hambrel apply " + shell_quoted(file))));
  return 0;
}

}  // namespace hambrel::cli
