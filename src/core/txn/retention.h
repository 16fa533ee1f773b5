// Retention: how long changes can be undone, and what that costs.
//
// What undo, redo and rollback need of a transaction is its attic. Limits say when the oldest are given up: in the plan
// of a change, which names them, and together with its commit; or by `tidy attic`.
//   R1 never given up: the attic of the last transaction; what the shelf, a checkpoint or something prepared needs
//   R2 nothing is given up that no plan named, with what can't be done any more afterwards
//   R3 the state says that an attic is given up before its files go; the next start finishes what was cut off
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "os/file_system.h"
#include "plan/plan.h"
#include "state/state.h"

namespace hambrel::txn {

/// What the attics may be together; nothing: no limit. Applied oldest first.
struct Limits {
  std::optional<std::uint64_t> transactions, days;
  std::optional<ByteCount> bytes;
};

struct StandingAttic {
  state::Attic attic;     // with its size, unless this user may not look
  std::string needed_by;  // why it is not given up (R1); empty: it may be
  std::int64_t age = 0;   // seconds, as far as the clock can be believed: see age_by_ledger()
};

/// Why the clock can't be believed now, held against the last entry of the ledger; empty: it can. Then nothing is given
/// up for its age.
std::string doubt_of_clock(const state::LedgerStore& state, std::int64_t now);

/// How old a transaction is: the time that passed from each later one to the next, and to now. Steps back, and leaps
/// that no system sleeps through, are a wrong clock and count nothing, so that one run with a wrong clock ages nothing.
/// `ends`: when each transaction ended, by number.
std::int64_t age_by_ledger(const std::vector<std::pair<state::TxnId, std::int64_t>>& ends, state::TxnId id,
                           std::int64_t now);

/// Every attic that stands, oldest first. Counts the files of those whose size the state does not know.
std::vector<StandingAttic> standing_attics(os::FileReader& root, const state::State& state, std::int64_t now);

/// Those that are beyond the limits, oldest first. `coming`: so many transactions are about to join them, which makes
/// the last one a last one no longer.
std::vector<state::TxnId> over_limits(const Limits& limits, const std::vector<StandingAttic>& attics,
                                      std::size_t coming);

/// What can't be done any more without them.
plan::Notice notice_of(const std::vector<state::TxnId>& given_up);

}  // namespace hambrel::txn
