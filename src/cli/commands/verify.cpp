// verify and repair.
#include "operations/care.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/outcome.h"
#include "cli/show/plan.h"
#include "cli/show/rows.h"
#include "os/host.h"
#include "report/facts.h"

namespace hambrel::cli {

namespace {

using operations::Depth;
using operations::Finding;

constexpr int kDamageFound = 11;  // exit code

const char* name_of(Finding::Kind kind) {
  static constexpr const char* kNames[] = {"missing", "type",       "content", "mode",    "owner", "target",
                                           "links",   "attributes", "edited",  "deleted", "remade"};
  return kNames[static_cast<int>(kind)];
}

Json to_json(const Finding& one) {
  return {{"path", "/" + one.entry.path},
          {"package", one.package},
          {"kind", name_of(one.kind)},
          {"text", one.text()},
          {"made_by", one.made_by.empty() ? Json() : Json(one.made_by)},
          {"damage", one.is_damage()}};
}

/// How many findings, from `first` on, say that all of a directory that is missing is missing, too.
std::size_t missing_below(const std::vector<Finding>& findings, std::size_t first) {
  const Finding& top = findings[first];
  if (top.kind != Finding::Kind::Missing || top.entry.type != EntryType::Directory) return 0;
  std::size_t count = 0;
  while (first + count + 1 < findings.size()) {
    const Finding& next = findings[first + count + 1];
    if (next.kind != Finding::Kind::Missing || !next.entry.path.starts_with(top.entry.path + "/")) break;
    ++count;
  }
  return count;
}

void show(const Session& session, const operations::Verification& found, bool all) {
  const Screen& screen = session.screen();
  const auto& findings = found.files.findings;  // by path: what is below a directory follows it
  Rows rows(session);
  for (std::size_t i = 0; i < findings.size(); ++i) {
    const Finding& one = findings[i];
    if (!one.is_damage() && session.quiet() && !session.json()) continue;
    const std::size_t below = session.json() || all ? 0 : missing_below(findings, i);
    rows.add([&] { return to_json(one); },
             {{one.is_damage() ? "damaged" : "kept", one.is_damage() ? Style::Warn : Style::Faint},
              {"/" + printable(one.entry.path), Style::Name},
              {below == 0 ? one.text() : fmt::format("{}, with {} below it", one.text(), below)},
              {one.package, Style::Faint}});
    i += below;
  }
  rows.print();
  for (const std::string& problem : found.problems) {
    if (session.json())
      session.document({{"problem", problem}});
    else
      screen.line("  " + screen.paint(Style::Warn, "problem") + "  " + printable(problem));
  }
  for (const auto& one : found.left_out) {
    const std::string text = fmt::format("the {} of {} is due: {} was left out in transaction {}",
                                         one.run.occasion == "trigger" ? "trigger" : "hook", one.run.package,
                                         printable(one.run.program), number(one.id));
    if (session.json())
      session.document({{"problem", text}});
    else
      screen.line("  " + screen.paint(Style::Warn, "due") + "  " + text);
  }
  const std::size_t damaged = found.files.damaged();
  const bool separate =
      !session.json() && !session.quiet() && (rows.count() > 0 || !found.problems.empty() || !found.left_out.empty());
  session.say(
      {{"packages", found.packages.size()},
       {"files", found.files.files},
       {"read", found.files.read},
       {"damaged", damaged}},
      fmt::format("{}{} in {}, {} read: {}.", separate ? "\n" : "", count_text(found.files.files, "file", "files"),
                  count_text(found.packages.size(), "package", "packages"), size_text(found.files.read),
                  damaged == 0 ? "all identical to their packages" : fmt::format("{} damaged", damaged)));
}

Depth depth_of(const Arguments& arguments) { return arguments.has("fast") ? Depth::Times : Depth::Content; }

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
  const auto found = operations::verify(session.root(), parse_specs(arguments.words()), depth_of(arguments));
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
                        : operations::verify(session.root(), parse_specs(arguments.words()), depth_of(arguments));
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
