// Taking back what an earlier transaction did, out of its attic: renames, nothing fetched, nothing unpacked.
#pragma once

#include <variant>

#include "txn/engine.h"

namespace hambrel::txn {

struct UndoPlan {
  state::TxnId of{};
  std::string directory;  // the attic of it
  std::vector<state::Move> moves;
  std::vector<state::DirectoryTime> restore;  // directory times to be put back after the moves
  std::vector<state::PackageChange> changes;
  plan::Plan plan;
};

/// How a plan shows a change of a package whose files come from the attic.
plan::Step step_of(const state::PackageChange& back, plan::Why why);

/// Throws Error{NotFound} for an unknown number, Error{Refused} that says what stands in the way: later transactions on
/// the same packages or paths, packages that would be left without what they require, an attic that is gone.
UndoPlan plan_undo(os::FileSystem& root, const state::State& state, state::TxnId id);

}  // namespace hambrel::txn
