// The journal of the transaction that is being switched to, and the moves of those that were.
#pragma once

#include <functional>
#include <optional>
#include <vector>

#include "state/records.h"
#include "state/store.h"

namespace hambrel::state {

class JournalStore : protected Store {
 public:
  /// Waits for what has to be on the disk before something that says so is. Called once, while nothing is durable yet
  /// and others can look; if it throws, nothing will be.
  using Await = std::function<void()>;
  std::optional<Journal> journal() const;
  void write_journal(const Journal& journal, const Await& await = {});
  std::vector<Move> moves_of(TxnId id) const;
  std::vector<DirectoryTime> times_of(TxnId id) const;
  /// The journal's transaction was taken back: the journal ends, the ledger says so.
  void close_taken_back(LedgerEntry entry);

 protected:
  using Store::Store;
  friend class State;
};

}  // namespace hambrel::state
