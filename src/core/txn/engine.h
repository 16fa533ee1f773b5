// The transaction: all or nothing on ordinary file systems.
//
//   begin --stage--> STAGED --write_journal--> JOURNALED --moves, syncfs--> SWITCHED --commit--> COMMITTED --> done
//                    STAGED --prepare--> PREPARED --activate--> JOURNALED
//
//   in state    a failure, or a wish to stop, leads to           a crash leads to, at the next start
//   begin       nothing: the stages are removed, failure noted   nothing: stages that no journal names are removed
//   STAGED      the same                                         the same
//   PREPARED    nothing: it stays prepared                       nothing: it stays prepared
//   JOURNALED   every move that was done is taken back, then     the same; a wish to stop waits for the end
//               the journal is closed; the switch is finished
//               where somebody only wished to stop
//   SWITCHED    as JOURNALED                                     as JOURNALED
//   COMMITTED   nothing: it is done                              the stages become the attic
//
// Invariants
//   I1 before JOURNALED nothing outside the transaction's own directories has changed, pristine contents of
//      configuration files aside, which may only come to be more (configuration.h)
//   I2 the journal is durable before the first move, the moves are durable before the commit, on every file system
//   I3 each move leaves both of its names on one file system and is a single renameat2; from the inode numbers in the
//      journal anyone can tell whether it was done; taking back asks them, so that it can be interrupted and run again
//   I4 while a journal stands, the state's tables describe the root as it was before; after the commit, as planned
//   I5 the old content of everything replaced or removed lies in the transaction's directories (staging_homes.h), which
//      after the commit are attic/ID: what undo needs is there, under the places that the moves name
//   I6 nothing is deleted but the directories of a transaction that was taken back, discarded or never journaled, and
//      attics that the state calls given up
// broken_invariants() (invariants.h) asserts I2 to I6 from outside, at any moment; I1 is shown by the Order tests.
// After a failure during the moves the engine trusts nothing it remembers: it recovers from the journal.
//
// Stager makes STAGED, Engine itself is the switch, Recovery takes back, Housekeeping makes attics of what is done.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/parallel.h"
#include "os/lock.h"
#include "txn/environment.h"
#include "txn/recovery.h"
#include "txn/transaction.h"

namespace hambrel::txn {

class Engine {
 public:
  explicit Engine(Environment environment) : env_(std::move(environment)) {}
  ~Engine() { end_preview(); }
  Engine(const Engine&) = delete;
  Engine& operator=(const Engine&) = delete;

  /// Stages, where there is something to stage, and switches. Returns the number in the ledger. On failure everything
  /// is as before, the failure stands in the ledger, and the Error says so. What was planned is spent once it is
  /// staged.
  state::TxnId run(Planned& planned, const Account& account);

  /// Everything up to the switch: staged, on the disk, and written down. One can be prepared at a time: Error{Refused}
  /// where another one is.
  state::Prepared prepare(const Planned& planned, const Account& account);
  /// Switches to what was prepared. Error{Refused} where the root has moved since: another transaction was done, or
  /// something else stands now where a move leads; it stays prepared then.
  state::TxnId activate(const state::Prepared& prepared);
  /// Drops what was prepared.
  void discard(const state::Prepared& prepared);

  /// Gives up attics (retention.h): first the state says so, then their files go. Returns the number in the ledger.
  state::TxnId give_up(const std::vector<state::TxnId>& attics, const Account& account);

  /// Writes down that a transaction failed before anything was changed.
  void record_failure(std::int64_t started, const Account& account, const std::string& problem,
                      const std::vector<state::RunRecord>& runs = {});

  using Recovered = Recovery::Recovered;
  /// Makes an interrupted transaction whole: taken back if it was not committed. Nothing if there was none.
  /// Also finishes the directories of a committed one and removes stages that no journal names.
  std::optional<Recovered> recover();

 private:
  struct OpenDirectories;
  Transaction begin(const Planned& planned, const Account& account, const std::string& directory);
  void stage(const Planned& planned, Transaction& ready, const std::string& directory);
  Transaction make_ready(const Planned& planned, const Account& account, const std::string& directory);
  void rehearse(const Planned& planned, Transaction& ready, const std::string& directory);
  std::unique_ptr<os::Lock> hold_accounts(const Planned& planned);
  void write_contents(const Planned& planned, state::Journal& journal);
  void write_like(const Planned::Content& content, const os::FileInfo& here, const std::string& place);
  void drop_preview(const std::string& scratch);
  void end_preview();
  void drop_stage(const std::string& directory);
  Aside<void> meanwhile(const std::function<void()>& work) const;
  void remember_put_away(state::Journal& journal);
  void sync_moved(const state::Journal& journal, const std::vector<state::DirectoryTime>& restore);
  void do_move(const state::Move& move, const std::string& directory, OpenDirectories& moving);
  std::vector<state::DirectoryTime> touched_directories(const std::vector<state::Move>& moves,
                                                        const std::vector<state::DirectoryTime>& restore);
  void require_ways(const std::vector<state::Move>& moves);
  void require_unmoved(const state::Prepared& prepared, const std::vector<Witness>& witnesses);
  void journal_it(state::Journal& journal, const Transaction& transaction, bool on_disk);
  void move_all(state::Journal& journal, const std::vector<state::DirectoryTime>& restore);
  state::TxnId switch_over(Transaction transaction, std::optional<std::int64_t> prepared);
  state::LedgerEntry entry(state::TxnId id, std::int64_t started, const Account& account) const;

  const Environment env_;
  Aside<void> preview_;  // a preview that is no longer needed is dropped while the switch goes on
};

}  // namespace hambrel::txn
