// Going back to how the packages were after an earlier transaction, past everything that was done since, in one new
// transaction.
//
// Only the net difference is touched: versions that leave and versions that come back, planned as any other change is
// (tree_change.h), but with the content of what comes back taken from the attic: a link to the file there, or a copy of
// configuration, which people edit in place. The attics stay as they are, so that the rollback can be undone, and what
// it went past can be undone then.
//   B1 the packages, reasons and holds are afterwards those after `to`
//   B2 edited configuration stays as it is, and is told of, unless a checkpoint kept another state of it; what waits to
//      be settled is what waited then
//   B3 a file that is alike in the version that is here is left as it is, without a look: verify and repair look
//   B4 what the attic does not hold comes from the package's own file, from the cache or a repository, by its digest; a
//      file that is nowhere is refused by name: nothing is put together by guess
//   B5 where one transaction stands between then and now, and nothing that it brought was changed since, it is taken
//      back as undo does it: by renames alone
//   B6 configuration that was merged, replaced by choice, carried or purged since, and that nobody changed after that,
//      stands as it did before, as far as all moves since `to` are still known
// Otherwise not brought back are files of nobody's that a package had replaced: undo of that transaction does that.
#pragma once

#include <memory>
#include <vector>

#include "txn/kept.h"
#include "txn/transaction.h"

namespace hambrel::txn {

/// Throws Error{NotFound} for a number that the ledger does not have, Error{Refused} for B4. The plan has no steps
/// where all is as it was then. `workers` threads look at the disk at once.
[[nodiscard]] Planned plan_rollback(os::FileSystem& root, const state::State& state, state::TxnId to,
                                    const FileOf& file_of, unsigned workers = 1);
/// To a checkpoint: with the edited configuration that it kept.
[[nodiscard]] Planned plan_rollback(os::FileSystem& root, const state::State& state, const state::Checkpoint& to,
                                    const FileOf& file_of, unsigned workers = 1);

}  // namespace hambrel::txn
