// Undoing an earlier transaction from its attic: renames, nothing fetched, nothing unpacked.
#pragma once

#include "base/error.h"
#include "txn/transaction.h"

namespace hambrel::txn {

/// How a plan shows a change of a package whose files come from the attic.
plan::Step step_of(const state::PackageChange& back, plan::Why why);

/// What lies in the attic is not what was put there: the rest of the way back needs the cache or a repository.
class AtticAltered : public Error {
 public:
  AtticAltered(std::string what, std::string where)
      : Error(ErrorCode::Refused, std::move(what), std::move(where),
              "bring the packages back with `hambrel install NAME=VERSION`") {}
};

/// Throws Error{NotFound} for an unknown number, Error{Refused} that says what stands in the way: later transactions on
/// the same packages or paths, packages that would be left without what they require, an attic that is gone;
/// AtticAltered by name for content that was changed there.
[[nodiscard]] Planned plan_undo(os::FileSystem& root, const state::State& state, state::TxnId id);

}  // namespace hambrel::txn
