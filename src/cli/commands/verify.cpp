// verify and repair.
#include "operations/verifying.h"

#include <fmt/format.h>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/outcome.h"
#include "cli/show/plan.h"
#include "cli/show/verification.h"
#include "os/host.h"
#include "report/facts.h"

namespace hambrel::cli {

namespace {

using operations::Depth;

constexpr int kDamageFound = 11;  // exit code

Depth depth_asked(const Arguments& arguments) { return arguments.has("fast") ? Depth::Times : Depth::Content; }

/// What packages lack is put right by a transaction of its own. Both are shown before the one question.
int repair_packages(Session& session, const Arguments& arguments, operations::Verification& found,
                    const operations::Proposal& files) {
  const bool files_damaged = !files.plan().empty();
  bool agreed = files_damaged && !session.json();
  if (agreed && !(session.quiet() && arguments.has("yes"))) {
    print_plan(session, files.plan());
    session.screen().line();
  }
  const int code = carry_out(session, arguments, change_request(session, arguments, "repair"));
  if (arguments.has("dry-run")) return code;
  agreed = agreed && code == 0;
  operations::keep_installed(session.root(), found);  // a package may have left, or come in another version
  auto repair = operations::propose_repair(session.root(), found, planned_terms(arguments));
  if (!files_damaged || repair->plan().empty()) return code;  // nothing that was not shown, no second question
  const int files_code = carry_out(session, arguments, std::move(repair), agreed);
  return code != 0 ? code : files_code;
}

}  // namespace

int run_verify(Session& session, const Arguments& arguments) {
  if (session.root().is_new()) {
    if (!session.json() && !session.quiet())
      session.screen().line("Nothing to verify: nothing has been installed in this root yet.");
    return 0;
  }
  const auto found = operations::verify(session.root(), parse_specs(arguments.words()), depth_asked(arguments));
  if (arguments.words().empty())
    report::note_verified(session.root(), {os::now(), found.packages.size(), found.files.files,
                                           found.files.damaged() + found.problems.size(), arguments.has("fast")});
  show(session, found, arguments.has("verbose"));
  if (found.sound()) return 0;
  if (!session.quiet())
    session.screen().hint(fmt::format("`{}` restores what can be restored", session.copyable("hambrel repair")));
  return kDamageFound;
}

int run_repair(Session& session, const Arguments& arguments) {
  if (arguments.has("rebuild")) return run_rebuild(session, arguments);
  open_for(session, arguments);
  operations::require_state(session.root());
  session.tell_of_unusable_repositories();
  if (session.changes()) operations::renew_ledger_copy(session.changed());
  const bool only_due = arguments.has("due");
  if (only_due && (!arguments.words().empty() || arguments.has("fast")))
    throw Error(ErrorCode::Usage, "--due looks at no files", {}, "leave out the packages and --fast, or --due");
  auto found = only_due ? operations::only_due(session.root())
                        : operations::verify(session.root(), parse_specs(arguments.words()), depth_asked(arguments));
  auto repair = operations::propose_repair(session.root(), found, planned_terms(arguments));
  if (!only_due && arguments.words().empty() && operations::packages_are_broken(session.root()))
    return repair_packages(session, arguments, found, *repair);
  if (!repair->plan().empty()) return carry_out(session, arguments, std::move(repair));
  if (only_due && !session.json()) {
    if (!session.quiet()) session.screen().line("Nothing is due.");
    return 0;
  }
  show_nothing(session, *repair);
  return found.files.damaged() > 0 ? kDamageFound : 0;
}

}  // namespace hambrel::cli
