#include "operations/leftovers.h"

#include "base/assert.h"
#include "os/host.h"
#include "txn/tree_change.h"

namespace hambrel::operations {

std::vector<txn::ConfigFile> leftovers_of(Root& root) {
  const state::State* const state = root.state();
  if (state == nullptr) return {};
  return leftovers_among(txn::configuration_files(root.files(), *state));
}

std::vector<txn::ConfigFile> leftovers_among(std::vector<txn::ConfigFile> files) {
  std::erase_if(files, [](const txn::ConfigFile& one) { return one.state != txn::ConfigState::Leftover; });
  return files;
}

std::unique_ptr<Proposal> propose_purge(Root& root, const std::vector<txn::ConfigFile>& leftovers,
                                        const PlannedTerms& terms) {
  txn::Planned planned;
  planned.plan.kind = "purge";
  txn::TreeOptions options;
  options.workers = os::processors();
  std::vector<state::StatePackage> gone;
  for (const txn::ConfigFile& one : leftovers)
    if (options.gone.insert(one.package.row).second) gone.push_back(one.package);
  options.purge = options.gone;
  planned.tree = txn::plan_tree(root.files(), require_state(root), gone, {}, options);
  planned.tell_of_files();
  return propose(root, std::move(planned), terms);
}

IdlePristine idle_pristine(Root& root) {
  const state::State* const state = root.state();
  return state == nullptr ? IdlePristine() : idle_pristine(root, txn::configuration_files(root.files(), *state));
}

IdlePristine idle_pristine(Root& root, const std::vector<txn::ConfigFile>& files) {
  try {
    return txn::idle_pristine(root.files(), *root.state(), files);
  } catch (const Error& problem) {  // not everybody may look there
    if (problem.code() != ErrorCode::Io || root.changes()) throw;
    return {};
  }
}

void drop(ChangingRoot& root, const IdlePristine& idle) {
  for (const auto& [place, size] : idle) {
    HAMBREL_ASSERT(os::is_below(place, txn::kPristine), "nothing goes but pristine contents");
    root.files().remove_file(place);
  }
}

}  // namespace hambrel::operations
