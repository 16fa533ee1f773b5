// The transaction: all or nothing on ordinary file systems.
//
//   begin --stage--> STAGED --write_journal--> JOURNALED --moves, syncfs--> SWITCHED --commit--> COMMITTED --> done
//
//   in state    a failure, or a wish to stop, leads to           a crash leads to, at the next start
//   begin       nothing: the stages are removed, failure noted   nothing: stages that no journal names are removed
//   STAGED      the same                                         the same
//   JOURNALED   every move that was done is taken back, then     the same; a wish to stop waits for the end
//               the journal is closed; the switch is finished
//               where somebody only wished to stop
//   SWITCHED    as JOURNALED                                     as JOURNALED
//   COMMITTED   nothing: it is done                              the stages become the attic
//
// Invariants
//   I1 before JOURNALED nothing outside the transaction's own directories has changed
//   I2 the journal is durable before the first move, the moves are durable before the commit, on every file system
//   I3 each move leaves both of its names on one file system and is a single renameat2; from the inode numbers in the
//      journal anyone can tell whether it was done; taking back asks them, so that it can be interrupted and run again
//   I4 while a journal stands, the state's tables describe the root as it was before; after the commit, as planned
//   I5 the old content of everything replaced or removed lies in the transaction's directories (homes.h), which after
//      the commit are attic/ID: what undo needs is there, under the places that the moves name
//   I6 nothing is deleted but the directories of a transaction that was taken back or never journaled
// broken_invariants() (invariants.h) asserts I2 to I6 from outside, at any moment; I1 is shown by the Order tests.
// After a failure during the moves the engine trusts nothing it remembers: it recovers from the journal.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "archive/package_reader.h"
#include "base/error.h"
#include "base/observer.h"
#include "txn/homes.h"
#include "txn/owners.h"
#include "txn/tree_change.h"

namespace hambrel::txn {

// In each home (homes.h) a transaction has one of these:
inline constexpr const char* kStage = "stage";
inline constexpr const char* kAttic = "attic";

/// What goes into the ledger beside the outcome.
struct Account {
  std::string kind, command, user, note;
  std::string plan;  // JSON
  ByteCount downloaded = 0;
  std::optional<state::TxnId> undo_of;
};

struct Environment {
  os::FileSystem& root;
  state::State& state;
  Observer& observer;
  bool set_owners = true;  // false where this process may not: files then belong to the caller
  std::function<std::int64_t()> now;
  /// Called after each step with its name: staged, synced, journaled, moved (once a move), switched, committed, done.
  std::function<void(const std::string&)> after_step = [](const std::string&) {};
  /// Asked before each step up to the journal: true ends the transaction there, with nothing changed. From the journal
  /// on nobody asks: the switch is finished.
  std::function<bool()> stop_asked = [] { return false; };
  unsigned workers = 1;  // threads that unpack
};

struct Source {
  Package package;
  archive::PackageReader* reader = nullptr;
};

class Engine {
 public:
  explicit Engine(Environment environment) : env_(std::move(environment)) {}

  /// Stages and switches. `sources` are in the order of the entering packages that the change was planned with;
  /// `changes` are what the state records. Returns the number in the ledger. On failure everything is as before, the
  /// failure stands in the ledger, and the Error says so.
  state::TxnId run(const TreeChange& change, const std::vector<Source>& sources,
                   std::vector<state::PackageChange> changes, const Account& account,
                   std::vector<state::DirectoryTime> restore = {});

  /// Switches to what already lies in `directory` (an attic, in each home): the same as run(), without staging.
  state::TxnId run_moves(const std::string& directory, std::vector<state::Move> moves,
                         std::vector<state::DirectoryTime> restore, std::vector<state::PackageChange> changes,
                         const Account& account);

  /// Writes down that a transaction failed before anything was changed.
  void record_failure(std::int64_t started, const Account& account, const std::string& problem);

  struct Recovered {
    state::TxnId id{};
    std::string kind, command;
    std::int64_t started = 0;
    std::size_t moves_taken_back = 0, moves = 0;
  };
  /// Makes an interrupted transaction whole: taken back if it was not committed. Nothing if there was none.
  /// Also finishes the directories of a committed one and removes stages that no journal names.
  std::optional<Recovered> recover();

 private:
  void stage(const TreeChange& change, const std::vector<Source>& sources, const std::string& directory);
  void go_on() const;  // Error{Declined} when it was asked to stop
  void make_stages(const TreeChange& change, const std::string& directory);
  void remove_stages(const std::string& directory);
  void sync(const std::vector<state::Move>& moves);
  void unpack(const TreeChange& change, const std::vector<Source>& sources, const std::string& directory,
              const Owners& owners);
  void stage_link(const Put& put, const std::string& directory);
  void stage_kept(const Put& put, const std::string& directory, const os::Metadata& metadata);
  os::Metadata metadata_of(const Put& put, const Owners& owners, const std::string& package) const;
  std::vector<state::Move> resolve_moves(const TreeChange& change, const std::string& directory);
  static std::string place_of(const state::Move& move, const std::string& directory);
  struct Moving;
  void do_move(const state::Move& move, const std::string& directory, Moving& moving);
  bool take_back(const state::Move& move, const std::string& directory);
  Recovered take_back(const state::Journal& journal, const std::string& result, const std::string& problem);
  void require_homes(const state::Journal& journal);
  std::vector<state::DirectoryTime> touched_directories(const std::vector<state::Move>& moves);
  void settle_directories();
  void tidy_up();
  void take_back_after(const Error& problem, state::TxnId id);
  state::TxnId switch_over(state::Journal journal, std::vector<state::DirectoryTime> restore,
                           std::vector<state::PackageChange> changes, const Account& account);
  state::LedgerEntry entry(state::TxnId id, std::int64_t started, const Account& account) const;
  state::DirectoryAttributes numbers(const FileEntry& entry, const std::string& path);

  Environment env_;
};

}  // namespace hambrel::txn
