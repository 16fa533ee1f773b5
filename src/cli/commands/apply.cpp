// apply: a saved plan is carried out, exactly as it was saved.
#include <fmt/format.h>

#include "base/text.h"
#include "cli/carry.h"
#include "operations/saved_plan.h"

namespace hambrel::cli {

namespace {

/// The command of a plan that is not exact is run again; what it proposes has to be the same.
int run_again(Session& session, const Arguments& arguments, operations::SavedPlan saved) {
  const Command* const command = saved.command.empty() ? nullptr : find_command(saved.command.front());
  if (command == nullptr || command->run == run_apply)
    throw Error(ErrorCode::Invalid, "was saved by a command this program does not have", saved.file, "save it again");
  std::vector<std::string> words(saved.command.begin() + 1, saved.command.end());
  for (const char* const name : {"yes", "dry-run", "json", "quiet", "verbose", "prepare"})
    if (arguments.has(name)) words.push_back(fmt::format("--{}", name));
  if (const auto reason = arguments.value("reason")) words.insert(words.end(), {"--reason", *reason});
  const Arguments parsed = parse_arguments(words, *command);
  session.expect(std::make_shared<const operations::SavedPlan>(std::move(saved)));
  return command->run(session, parsed);
}

}  // namespace

int run_apply(Session& session, const Arguments& arguments) {
  operations::SavedPlan saved = operations::load_plan(arguments.words()[0]);
  begin(session, arguments);
  operations::require_same(saved, operations::moved_since(session.root(), saved));
  if (!saved.is_exact) return run_again(session, arguments, std::move(saved));
  const operations::ActingTerms acting = change_request(session, arguments, saved.request.kind).acting;
  return carry_out(session, arguments, operations::propose(session.root(), saved, acting, end_of(arguments)));
}

}  // namespace hambrel::cli
