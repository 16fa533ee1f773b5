// A checkpoint: a moment of the ledger with a name, and the configuration as it was then.
//
// What packages brought comes back from the attic by going back to that moment; configuration is edited in place, so it
// is copied to kCheckpoints/ID/tree, leftovers included. What an earlier checkpoint has just so is linked from there:
// nobody writes to copies. They are whole on the disk before the state speaks of them; directories that it does not
// speak of are left over from a run that was cut off, and go when the next one is made.
#pragma once

#include "os/file_system.h"
#include "state/state.h"

namespace hambrel::txn {

inline constexpr const char* kCheckpoints = "var/lib/hambrel/checkpoints";

/// Throws Error{Usage} for a name that is none (letters, digits, '.', '_' and '-', a letter first, at most 64), and
/// Error{Refused} for one that is taken.
state::Checkpoint make_checkpoint(os::FileSystem& root, state::State& state, const std::string& name,
                                  const std::string& note, std::int64_t now);

/// Forgets it, then removes its copies. Throws Error{NotFound}.
void drop_checkpoint(os::FileSystem& root, state::CheckpointStore& state, const std::string& name);

/// Where the copy of a file lies, relative to the root.
std::string place_of(const state::Checkpoint& checkpoint, const std::string& path);

}  // namespace hambrel::txn
