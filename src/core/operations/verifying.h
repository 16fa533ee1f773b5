// verify and repair.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "operations/change.h"
#include "txn/verify.h"

namespace hambrel::operations {

using txn::Depth;
using txn::Finding;

/// What is on the disk, held against what the state says.
struct Verification {
  std::vector<state::StatePackage> packages;  // that were looked at
  txn::Verified files;
  std::vector<std::string> problems;  // beside files: the database, the chain of the ledger, the set of packages
  std::vector<state::GeneratedStore::LeftOut> left_out{};  // programs that are due, of these packages
  bool sound() const { return files.damaged() == 0 && problems.empty() && left_out.empty(); }
};

/// Of what the specs name; without any also what no file shows.
Verification verify(Root& root, const std::vector<Spec>& specs, txn::Depth depth);

/// Of all installed packages only the programs that are due; no file is looked at.
Verification only_due(Root& root);

/// What would put files right, from attic, cache and repositories. It may propose nothing: does_nothing(); what is
/// nowhere stands among the notices of its plan.
[[nodiscard]] std::unique_ptr<Proposal> propose_repair(Root& root, const Verification& found,
                                                       const PlannedTerms& terms);
/// Do installed packages lack something, or exclude each other? A change of kind "repair" puts that right.
bool packages_are_broken(Root& root);
/// After such a change: forgets what was found of packages that are not installed any more.
void keep_installed(Root& root, Verification& found);
/// Writes the copy of the ledger anew where it is damaged, and tells.
void renew_ledger_copy(ChangingRoot& root);

}  // namespace hambrel::operations
