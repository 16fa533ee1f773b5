// The shelf: a package's files go off the system into the attic for a while, and come back.
//
// A shelved package keeps its row in the state, its reason and its hold, and its configuration stays where it is. It is
// not among what is installed: nothing may require it meanwhile. Coming back is an installation whose content lies in
// the attic (Entering::from_shelf).
//   H1 what the shelf needs of the attic is never given up by retention
//   H2 configuration is not touched, neither when going nor when coming back: what was deleted by hand stays away
#pragma once

#include <map>
#include <vector>

#include "txn/transaction.h"

namespace hambrel::txn {

/// Throws as plan_tree() does. Whether the rest holds together without them is the caller's to know.
[[nodiscard]] Planned plan_shelve(os::FileReader& root, const state::State& state,
                                  const std::vector<state::StatePackage>& packages, unsigned workers = 1);

/// Before something goes back to the shelf that had left it: Error{Refused} by name unless the attic holds all its
/// files.
void require_on_shelf(os::FileReader& root, const state::State& state, const state::StatePackage& package);

/// The attics that may hold files of what is shelved (H1), with its name. Looks at sizes, reads nothing.
std::map<state::TxnId, std::string> attics_of_shelf(os::FileReader& root, const state::State& state);

/// Sentences about shelved packages whose files the attic does not hold any more. Reads what lies there.
std::vector<std::string> problems_of_shelf(os::FileReader& root, const state::State& state);

}  // namespace hambrel::txn
