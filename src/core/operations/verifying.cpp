#include "operations/verifying.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "operations/select.h"
#include "operations/supply.h"
#include "os/host.h"
#include "txn/invariants.h"
#include "txn/ledger_copy.h"
#include "txn/shelve.h"

namespace hambrel::operations {

namespace {

/// What can be wrong beside files: the database, the chain of the ledger, transactions, the set of packages.
std::vector<std::string> other_problems(Root& root, const state::State& state) {
  std::vector<std::string> problems = state.damage();
  try {
    for (const std::string& one : txn::broken_invariants(root.files(), state)) problems.push_back(one);
    for (const std::string& one : txn::copy_problems(root.files(), state)) problems.push_back(one);
  } catch (const Error& problem) {  // not everybody may look there
    if (problem.code() != ErrorCode::Io || os::is_superuser()) throw;
    root.observer().note("stages, attics and the copy of the ledger were not checked: that needs root");
  }
  for (const std::string& one : txn::problems_of_shelf(root.files(), state)) problems.push_back(one);
  const Universe& universe = root.universe();
  for (const std::string& one : plan::problems_of(universe, universe.installed())) problems.push_back(one);
  return problems;
}

std::vector<state::GeneratedStore::LeftOut> left_out_of(const state::State& state,
                                                        const std::vector<state::StatePackage>& packages) {
  auto left = state.left_out();
  std::erase_if(left, [&](const auto& one) {
    return std::none_of(packages.begin(), packages.end(),
                        [&](const state::StatePackage& package) { return package.package.name == one.run.package; });
  });
  return left;
}

}  // namespace

Verification only_due(Root& root) {
  const state::State& state = require_state(root);
  Verification found;
  found.left_out = left_out_of(state, state.acting());
  return found;
}

Verification verify(Root& root, const std::vector<Spec>& specs, txn::Depth depth) {
  const state::State& state = require_state(root);
  Verification found;
  found.packages = state.installed();
  solve::Names names;
  for (const Spec& spec : specs) names.merge(select_installed(root, spec));
  if (!specs.empty())
    std::erase_if(found.packages, [&](const state::StatePackage& one) { return !names.contains(one.package.name); });
  if (specs.empty()) found.problems = other_problems(root, state);
  found.left_out = left_out_of(state, found.packages);
  found.files = txn::verify(root.files(), state, found.packages, depth, os::processors(), root.observer());
  return found;
}

std::unique_ptr<Proposal> propose_repair(Root& root, const Verification& found, const PlannedTerms& terms) {
  const auto files = std::make_shared<VersionFiles>(root);
  txn::Planned planned =
      txn::plan_repair(root.files(), require_state(root), found.packages, found.files, files->file_of());
  for (const auto& one : found.left_out)
    planned.due.push_back({one.run.package, one.run.program, one.run.occasion,
                           fmt::format("left out in transaction {}", number(one.id))});
  for (const Finding& one : found.files.findings)
    if (one.is_damage() && !one.made_by.empty())
      planned.due.push_back({one.package, one.made_by, "trigger", fmt::format("/{} is missing", one.entry.path)});
  return propose(root, std::move(planned), terms, files);
}

bool packages_are_broken(Root& root) {
  const Universe& universe = root.universe();
  return !plan::problems_of(universe, universe.installed()).empty();
}

void keep_installed(Root& root, Verification& found) {
  std::set<std::int64_t> rows;
  for (const state::StatePackage& one : require_state(root).installed()) rows.insert(one.row);
  std::erase_if(found.packages, [&](const auto& one) { return !rows.contains(one.row); });
  std::erase_if(found.files.findings, [&](const auto& one) { return !rows.contains(one.package_row); });
}

void renew_ledger_copy(ChangingRoot& root) {
  const state::State& state = *root.state();
  if (txn::copy_problems(root.files(), state).empty() || !state.damage().empty()) return;
  txn::renew_copy(root.files(), state);
  root.observer().note("the copy of the ledger was damaged; it was rewritten");
}

}  // namespace hambrel::operations
