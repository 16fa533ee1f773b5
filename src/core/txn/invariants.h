// The invariants of engine.h, asserted from outside: what disk and state say against them at this moment.
//
// Reads only, and shares no code with the engine. For tests between its steps and after recovery, and for whoever
// doubts a root.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "os/file_system.h"
#include "state/state.h"

namespace hambrel::txn {

/// A line for each breach, beginning with the invariant's number; empty if all hold. `staging`: the transaction that is
/// being staged now, if one is.
std::vector<std::string> broken_invariants(os::FileReader& root, const state::State& state,
                                           std::optional<state::TxnId> staging = {});

}  // namespace hambrel::txn
