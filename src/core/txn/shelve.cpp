#include "txn/shelve.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
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

namespace {

/// Calls `each` with a file of a shelved package, and where it lies: nothing if nowhere.
template <typename Each>
void visit_shelf(os::FileReader& root, const state::State& state, const std::vector<StatePackage>& shelved,
                 const Each& each) {
  if (shelved.empty()) return;
  const Kept kept(root, state, state::TxnId{0});
  Homes homes(root);
  for (const StatePackage& one : shelved)
    for (const FileEntry& file : state.files_of(one.row)->entries())
      if (file.type == EntryType::File && !file.config) each(one, file, kept.find(file, homes.of(file.path)));
}

}  // namespace

void require_on_shelf(os::FileReader& root, const state::State& state, const StatePackage& package) {
  visit_shelf(root, state, {package}, [](const StatePackage& one, const FileEntry& file, const auto& place) {
    if (place) return;
    throw Error(ErrorCode::Refused,
                fmt::format("{} was shelved then, and the attic no longer holds its files", one.package.title()),
                "/" + file.path, "bring the package back with `hambrel install NAME=VERSION`");
  });
}

std::map<state::TxnId, std::string> attics_of_shelf(os::FileReader& root, const state::State& state) {
  std::map<state::TxnId, std::string> result;
  visit_shelf(root, state, state.shelved(), [&](const StatePackage& one, const FileEntry&, const auto& place) {
    const std::string mark = fmt::format("/{}/", kAttic);
    const std::size_t at = place ? place->find(mark) : std::string::npos;
    if (at == std::string::npos) return;
    const std::string rest = place->substr(at + mark.size());
    if (const auto id = parse_number(rest.substr(0, rest.find('/'))))
      result.emplace(state::TxnId{static_cast<std::int64_t>(*id)}, one.package.name);
  });
  return result;
}

std::vector<std::string> problems_of_shelf(os::FileReader& root, const state::State& state) {
  std::vector<std::string> problems;
  visit_shelf(root, state, state.shelved(), [&](const StatePackage& one, const FileEntry& file, const auto& place) {
    if (!place)
      problems.push_back(
          fmt::format("{} is shelved, and the attic no longer holds its /{}", one.package.title(), file.path));
  });
  return problems;
}

}  // namespace hambrel::txn
