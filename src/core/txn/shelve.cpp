#include "txn/shelve.h"

#include <fmt/format.h>

#include "base/assert.h"
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
    change.before = one;
    change.before_row = change.after_row = one.row;
    one.shelved = true;
    change.after = one;
    planned.plan.steps.push_back(step_of(change, {plan::WhyKind::Asked, "", ""}));
    planned.changes.push_back(std::move(change));
  }
  HAMBREL_ASSERT(planned.changes.size() == leaving.size(), "each is shelved");
  planned.tree = plan_tree(root, state, leaving, {}, {.workers = workers});
  planned.tell_of_files();
  return planned;
}

namespace {

/// Calls `each` with a file of a shelved package, what the attic keeps, and its home.
template <typename Each>
void visit_shelf(os::FileReader& root, const state::State& state, const std::vector<StatePackage>& shelved,
                 const Each& each) {
  if (shelved.empty()) return;
  const Kept kept(root, state, state::TxnId{0});
  StagingHomes homes(root);
  for (const StatePackage& one : shelved)
    for (const FileEntry& file : state.files_of(one.row)->entries())
      if (file.type == EntryType::File && !file.config) each(one, file, kept, homes.of(file.path));
}

std::optional<state::TxnId> attic_in(const std::string& place) {
  const std::string mark = fmt::format("/{}/", kAttic);
  const std::size_t at = place.find(mark);
  if (at == std::string::npos) return std::nullopt;
  const std::string rest = place.substr(at + mark.size());
  const auto id = parse_number(rest.substr(0, rest.find('/')));
  return id ? std::optional(state::TxnId{static_cast<std::int64_t>(*id)}) : std::nullopt;
}

}  // namespace

void require_on_shelf(os::FileReader& root, const state::State& state, const StatePackage& package) {
  visit_shelf(root, state, {package}, [](const auto& one, const auto& file, const Kept& kept, const auto& home) {
    if (kept.find(file, home)) return;
    throw Error(ErrorCode::Refused,
                fmt::format("{} was shelved then, and the attic no longer holds its files", one.package.title()),
                "/" + file.path, "bring the package back with `hambrel install NAME=VERSION`");
  });
}

std::map<state::TxnId, std::string> attics_of_shelf(os::FileReader& root, const state::State& state) {
  std::map<state::TxnId, std::string> result;
  visit_shelf(root, state, state.shelved(), [&](const auto& one, const auto& file, const Kept& kept, const auto& home) {
    for (const std::string& place : kept.places_like(file, home))
      if (const auto id = attic_in(place)) result.emplace(*id, one.package.name);
  });
  return result;
}

std::vector<std::string> problems_of_shelf(os::FileReader& root, const state::State& state) {
  std::vector<std::string> problems;
  visit_shelf(root, state, state.shelved(), [&](const auto& one, const auto& file, const Kept& kept, const auto& home) {
    if (!kept.find(file, home))
      problems.push_back(
          fmt::format("{} is shelved, and the attic no longer holds its /{}", one.package.title(), file.path));
  });
  return problems;
}

}  // namespace hambrel::txn
