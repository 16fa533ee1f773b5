// verify and repair.
#include "operations/care.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/plan.h"

namespace hambrel::cli {

namespace {

constexpr int kDamageFound = 11;  // exit code

const char* name_of(txn::Finding::Kind kind) {
  static constexpr const char* kNames[] = {"missing", "type",  "content",    "mode",   "owner",
                                           "target",  "links", "attributes", "edited", "deleted"};
  return kNames[static_cast<int>(kind)];
}

txn::Depth depth_of(const Arguments& arguments) {
  return arguments.has("fast") ? txn::Depth::Times : txn::Depth::Content;
}

}  // namespace

int run_verify(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
  if (session.state() == nullptr) {
    if (!session.json() && !session.quiet()) screen.line("Nothing to verify: nothing was installed in this root yet.");
    return 0;
  }
  const auto found = operations::verify(session.root(), parse_specs(arguments.words()), depth_of(arguments));
  Table table;
  for (const txn::Finding& one : found.files.findings) {
    if (session.json()) {
      screen.line(canonical({{"path", "/" + one.entry.path},
                             {"package", one.package},
                             {"kind", name_of(one.kind)},
                             {"text", one.text()},
                             {"damage", one.is_damage()}}));
    } else if (one.is_damage() || !session.quiet()) {
      table.row({{one.is_damage() ? "damaged" : "kept", one.is_damage() ? Style::Warn : Style::Faint},
                 {"/" + printable(one.entry.path), Style::Name},
                 {one.text()},
                 {one.package, Style::Faint}});
    }
  }
  table.print(screen);
  for (const std::string& problem : found.problems) {
    if (session.json())
      screen.line(canonical({{"problem", problem}}));
    else
      screen.line("  " + screen.paint(Style::Warn, "problem") + "  " + printable(problem));
  }
  const std::size_t damaged = found.files.damaged();
  if (session.json()) {
    screen.line(canonical({{"packages", found.packages.size()},
                           {"files", found.files.files},
                           {"read", found.files.read},
                           {"damaged", damaged}}));
  } else if (!session.quiet()) {
    if (!table.empty() || !found.problems.empty()) screen.line();
    screen.line(fmt::format("{} in {}, {} read: {}.", count_text(found.files.files, "file", "files"),
                            count_text(found.packages.size(), "package", "packages"), size_text(found.files.read),
                            damaged == 0 ? "all are as they were installed"
                                         : fmt::format("{} not as installed", count_text(damaged, "is", "are"))));
  }
  if (!found.sound() && !session.quiet())
    screen.hint(fmt::format("`{}` puts right what can be put right", session.copyable("hambrel repair")));
  return found.sound() ? 0 : kDamageFound;
}

namespace {

int nothing_to_repair(const Session& session, const operations::Verification& found, const plan::Plan& plan) {
  if (session.json()) {
    show_nothing(session, plan);
  } else if (!session.quiet()) {
    for (const plan::Notice& notice : plan.notices) session.screen().line("  " + printable(notice.text()));
    if (plan.notices.empty()) session.screen().line("Nothing to repair: all files are as they were installed.");
  }
  return found.files.damaged() > 0 ? kDamageFound : 0;
}

/// What packages lack is put right by a transaction of its own. Both are shown before the one question.
int repair_packages(Session& session, const Arguments& arguments, operations::Verification& found,
                    const operations::Proposal& files) {
  const bool files_damaged = !files.plan().steps.empty();
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
  if (!files_damaged || repair->plan().steps.empty()) return code;  // nothing that was not shown, no second question
  const int files_code = carry_out(session, arguments, std::move(repair), agreed);
  return code != 0 ? code : files_code;
}

}  // namespace

int run_repair(Session& session, const Arguments& arguments) {
  if (arguments.has("rebuild")) return run_rebuild(session, arguments);
  open_for(session, arguments);
  operations::require_state(session.root());
  session.tell_of_unusable_repositories();
  if (session.changes()) operations::renew_ledger_copy(session.changed());
  auto found = operations::verify(session.root(), parse_specs(arguments.words()), depth_of(arguments));
  auto repair = operations::propose_repair(session.root(), found, planned_terms(arguments));
  if (arguments.words().empty() && operations::packages_are_broken(session.root()))
    return repair_packages(session, arguments, found, *repair);
  if (repair->plan().steps.empty()) return nothing_to_repair(session, found, repair->plan());
  return carry_out(session, arguments, std::move(repair));
}

}  // namespace hambrel::cli
