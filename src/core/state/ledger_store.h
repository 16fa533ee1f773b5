// The ledger: every transaction, chained by digests, and what it changed.
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "state/records.h"
#include "state/store.h"

namespace hambrel::state {

class LedgerStore : protected Store {
 public:
  std::vector<LedgerEntry> ledger(std::size_t most) const;  // newest first
  std::optional<LedgerEntry> ledger_entry(TxnId id) const;
  std::vector<PackageChange> changes_of(TxnId id) const;  // without files
  /// The transaction that took `id` back, if one did and was not itself taken back since.
  std::optional<TxnId> undone_by(TxnId id) const;
  TxnId next_id() const;
  /// The last transaction that changed the root, 0 for none. Giving up attics is none.
  TxnId last_done() const;
  /// changes_text() of a transaction, in the words of its chain: of what the state records by now.
  std::string changes_told(TxnId id) const;
  /// When each transaction ended, by number, from the oldest on that has an attic: seconds since 1970.
  std::vector<std::pair<TxnId, std::int64_t>> ends() const;
  /// A ledger entry for a transaction that failed before its journal, or that only changed reasons or gave up attics.
  void record(LedgerEntry entry, const std::vector<PackageChange>& changes, const std::vector<TxnId>& gives_up = {},
              const std::vector<RunRecord>& runs = {});
  /// What was run for a transaction after it was done.
  void add_runs(TxnId id, const std::vector<RunRecord>& runs);

 protected:
  using Store::Store;
  friend class State;
};

}  // namespace hambrel::state
