// verify and repair.
#include <fmt/format.h>

#include <set>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/package_view.h"
#include "cli/plan_view.h"
#include "operations/supply.h"
#include "os/host.h"
#include "txn/invariants.h"
#include "txn/ledger_copy.h"
#include "txn/shelve.h"
#include "txn/verify.h"

namespace hambrel::cli {

namespace {

constexpr int kDamageFound = 11;  // exit code

/// What the specs name of what is installed; everything without any.
std::vector<state::StatePackage> named(Session& session, const Arguments& arguments, const state::State& state) {
  std::vector<state::StatePackage> packages = state.installed();
  solve::Names names;
  for (const Spec& spec : parse_specs(arguments.words()))
    names.merge(operations::select_installed(session.root(), spec));
  if (!arguments.words().empty())
    std::erase_if(packages, [&](const state::StatePackage& one) { return !names.contains(one.package.name); });
  return packages;
}

txn::Verified look_at_files(Session& session, const Arguments& arguments, const state::State& state,
                            const std::vector<state::StatePackage>& packages) {
  return txn::verify(session.files(), state, packages, arguments.has("fast") ? txn::Depth::Times : txn::Depth::Content,
                     os::processors(), session.progress());
}

/// What can be wrong beside files: the database, the chain of the ledger, transactions, the set of packages.
std::vector<std::string> other_problems(Session& session, const state::State& state) {
  std::vector<std::string> problems = state.damage();
  try {
    for (const std::string& one : txn::broken_invariants(session.files(), state)) problems.push_back(one);
    for (const std::string& one : txn::copy_problems(session.files(), state)) problems.push_back(one);
  } catch (const Error& problem) {  // not everybody may look there
    if (problem.code() != ErrorCode::Io || os::is_superuser()) throw;
    session.progress().note("stages, attics and the copy of the ledger were not looked at: that takes root");
  }
  for (const std::string& one : txn::problems_of_shelf(session.files(), state)) problems.push_back(one);
  const Universe& universe = session.universe();
  for (const std::string& one : plan::problems_of(universe, universe.installed())) problems.push_back(one);
  return problems;
}

/// Forgets what was found of packages that are not installed any more.
void keep_installed(const state::State& state, std::vector<state::StatePackage>& packages, txn::Verified& verified) {
  std::set<std::int64_t> rows;
  for (const state::StatePackage& one : state.installed()) rows.insert(one.row);
  std::erase_if(packages, [&](const auto& one) { return !rows.contains(one.row); });
  std::erase_if(verified.findings, [&](const auto& one) { return !rows.contains(one.package_row); });
}

const char* name_of(txn::Finding::Kind kind) {
  static constexpr const char* kNames[] = {"missing", "type",  "content",    "mode",   "owner",
                                           "target",  "links", "attributes", "edited", "deleted"};
  return kNames[static_cast<int>(kind)];
}

}  // namespace

int run_verify(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
  const state::State* const state = session.state();
  if (state == nullptr) {
    if (!session.json() && !session.quiet()) screen.line("Nothing to verify: nothing was installed in this root yet.");
    return 0;
  }
  const auto packages = named(session, arguments, *state);
  const auto problems = arguments.words().empty() ? other_problems(session, *state) : std::vector<std::string>();
  const txn::Verified verified = look_at_files(session, arguments, *state, packages);
  Table table;
  for (const txn::Finding& one : verified.findings) {
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
  for (const std::string& problem : problems) {
    if (session.json())
      screen.line(canonical({{"problem", problem}}));
    else
      screen.line("  " + screen.paint(Style::Warn, "problem") + "  " + printable(problem));
  }
  const std::size_t damaged = verified.damaged();
  if (session.json()) {
    screen.line(canonical(
        {{"packages", packages.size()}, {"files", verified.files}, {"read", verified.read}, {"damaged", damaged}}));
  } else if (!session.quiet()) {
    if (!table.empty() || !problems.empty()) screen.line();
    screen.line(fmt::format("{} in {}, {} read: {}.", count_text(verified.files, "file", "files"),
                            count_text(packages.size(), "package", "packages"), size_text(verified.read),
                            damaged == 0 ? "all are as they were installed"
                                         : fmt::format("{} not as installed", count_text(damaged, "is", "are"))));
  }
  if ((damaged > 0 || !problems.empty()) && !session.quiet())
    screen.hint(fmt::format("`{}` puts right what can be put right", session.copyable("hambrel repair")));
  return damaged > 0 || !problems.empty() ? kDamageFound : 0;
}

int run_repair(Session& session, const Arguments& arguments) {
  if (arguments.has("rebuild")) return run_rebuild(session, arguments);
  const state::State& state = require_state(session, arguments);
  session.tell_of_unusable_repositories();
  if (session.changes() && !txn::copy_problems(session.files(), state).empty() && state.damage().empty()) {
    txn::renew_copy(session.files(), state);
    session.progress().note("the copy of the ledger was damaged; it was written anew");
  }
  auto packages = named(session, arguments, state);
  txn::Verified verified = look_at_files(session, arguments, state, packages);
  operations::PackageFiles files(session.root());
  txn::Planned repair = txn::plan_repair(session.files(), state, packages, verified, files.file_of());
  const bool files_damaged = !repair.plan.steps.empty();
  bool agreed = false;
  int code = 0;
  if (const Universe& universe = session.universe();
      arguments.words().empty() && !plan::problems_of(universe, universe.installed()).empty()) {
    // What packages lack is put right by a transaction of its own. Both are shown before the one question.
    agreed = files_damaged && !session.json();
    if (agreed && !(session.quiet() && arguments.has("yes"))) print_plan(session, repair.plan), session.screen().line();
    code = carry_out(session, arguments, change_request(session, arguments, "repair"));
    if (arguments.has("dry-run")) return code;
    if (code != 0) agreed = false;
    keep_installed(state, packages, verified);  // a package may have left, or come in another version
    repair = txn::plan_repair(session.files(), state, packages, verified, files.file_of());
    if (!files_damaged || repair.plan.steps.empty()) return code;  // nothing that was not shown, no second question
  }
  if (repair.plan.steps.empty()) {
    if (session.json()) {
      show_nothing(session, repair.plan);
    } else if (!session.quiet()) {
      for (const plan::Notice& notice : repair.plan.notices) session.screen().line("  " + printable(notice.text()));
      if (repair.plan.notices.empty())
        session.screen().line("Nothing to repair: all files are as they were installed.");
    }
    return verified.damaged() > 0 ? kDamageFound : 0;
  }
  if (agreed) {
    carry_out(session, arguments, std::move(repair), true);
    return code;
  }
  const int files_code = carry_out(session, arguments, std::move(repair));
  return code != 0 ? code : files_code;
}

}  // namespace hambrel::cli
