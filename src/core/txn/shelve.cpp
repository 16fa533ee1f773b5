#include "txn/shelve.h"

#include <fmt/format.h>

#include "txn/kept.h"
#include "txn/undo.h"

namespace hambrel::txn {

using state::PackageChange;
using state::StatePackage;

Planned plan_shelve(os::FileReader& root, const state::State& state, const std::vector<StatePackage>& packages,
                    unsigned workers) {
  Planned planned;
  planned.plan.kind = "shelve";
  std::vector<StatePackage> leaving = packages;
  for (StatePackage& one : leaving) {
    PackageChange change;
    change.name = one.package.name;
    change.before = one, change.before_row = change.after_row = one.row;
    one.shelved = true;
    change.after = one;
    planned.plan.steps.push_back(step_of(change, {plan::WhyKind::Asked, "", ""}));
    planned.changes.push_back(std::move(change));
  }
  planned.tree = plan_tree(root, state, leaving, {}, workers);
  planned.plan.notices = planned.tree.notices;
  require_feasible(root, planned.tree);
  return planned;
}

std::vector<std::string> problems_of_shelf(os::FileReader& root, const state::State& state) {
  std::vector<std::string> problems;
  const auto shelved = state.shelved();
  if (shelved.empty()) return problems;
  const Kept kept(root, state, state::TxnId{0});
  Homes homes(root);
  for (const StatePackage& one : shelved)
    for (const FileEntry& file : state.files_of(one.row)->entries())
      if (file.type == EntryType::File && !file.config && !kept.find(file, homes.of(file.path)))
        problems.push_back(
            fmt::format("{} is shelved, and the attic no longer holds its /{}", one.package.title(), file.path));
  return problems;
}

}  // namespace hambrel::txn
