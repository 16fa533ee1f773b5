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
//   after
//      the commit are attic/ID: what undo needs is there, under the places that the moves name
//   I6 nothing is deleted but the directories of a transaction that was taken back, discarded or never journaled, and
//      attics that the state calls given up
// broken_invariants() (invariants.h) asserts I2 to I6 from outside, at any moment; I1 is shown by the Order tests.
// After a failure during the moves the engine trusts nothing it remembers: it recovers from the journal.
#pragma once

#include <functional>
#include <future>
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/error.h"
#include "base/observer.h"
#include "txn/labels.h"
#include "txn/owners.h"
#include "txn/staging_homes.h"
#include "txn/transaction.h"

namespace hambrel::txn {

struct Environment {
  os::FileSystem& root;
  state::State& state;
  Observer& observer;
  bool set_owners = true;  // false where this process may not: files then belong to the caller
  std::function<std::int64_t()> now;
  /// Called after each step with its name: staged, arrived, synced, journaled, moved (once a move), switched,
  /// committed, done.
  std::function<void(const std::string&)> after_step = [](const std::string&) {};
  /// Asked before each step up to the journal: true ends the transaction there, with nothing changed. From the journal
  /// on nobody asks: the switch is finished.
  std::function<bool()> stop_asked = [] { return false; };
  unsigned workers = 1;  // threads that unpack
};

class Engine {
 public:
  explicit Engine(Environment environment) : env_(std::move(environment)) {}

  /// Stages, where there is something to stage, and switches. Returns the number in the ledger. On failure everything
  /// is as before, the failure stands in the ledger, and the Error says so.
  state::TxnId run(const Planned& planned, const Account& account);

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
  Transaction make_ready(const Planned& planned, const Account& account, const std::string& directory);
  /// Where in the transaction's directory each thing is staged.
  class Places {
   public:
    explicit Places(const TreeChange& change);
    const std::string& of(const Put& put) const;                             // one of the change's
    const std::string& of(std::string_view path) const;                      // what is put there
    std::string staged(const Put& put, const std::string& directory) const;  // relative to the root

   private:
    const TreeChange& change_;
    std::vector<std::string> places_;  // by put
    std::unordered_map<std::string_view, std::size_t> by_path_;
  };
  class StageDirectories;
  /// What the root says that a package does not: numbers of owners, security labels.
  struct Given {
    Owners owners;
    Labels labels;
  };
  void stage(const TreeChange& change, const std::vector<Source>& sources, const std::string& directory,
             const Places& places);
  void go_on() const;  // Error{Declined} when it was asked to stop
  void make_stages(const TreeChange& change, const std::string& directory);
  void remove_stages(const std::string& directory);
  void sync(const std::vector<state::Move>& moves);
  std::future<void> meanwhile(const std::function<void()>& sync) const;
  void remember_put_away(state::Journal& journal);
  void sync_moved(const state::Journal& journal, const std::vector<state::DirectoryTime>& restore);
  void keep_pristine(const TreeChange& change, const std::vector<Source>& sources);
  void unpack(const TreeChange& change, const std::vector<Source>& sources, const std::string& directory,
              const Given& given, const Places& places, StageDirectories& directories);
  void stage_link(const Put& put, const std::string& directory, const Places& places);
  void stage_kept(const TreeChange& change, const std::function<void(const Put&)>& stage_one);
  void stage_kept(const Put& put, const std::string& at, const os::Metadata& metadata);
  os::Metadata metadata_of(const Put& put, const Given& given, const std::string& package) const;
  std::vector<state::Move> resolve_moves(const TreeChange& change, const std::string& directory, const Places& places);
  static std::string place_of(const state::Move& move, const std::string& directory);
  struct OpenDirectories;
  void do_move(const state::Move& move, const std::string& directory, OpenDirectories& moving);
  void give(os::Directory& parent, std::string_view name, std::uint64_t inode,
            const state::DirectoryAttributes& attributes) const;
  bool take_back(const state::Move& move, const std::string& directory);
  Recovered take_back(const state::Journal& journal, const std::string& result, const std::string& problem);
  void require_homes(const state::Journal& journal);
  std::vector<state::DirectoryTime> touched_directories(const std::vector<state::Move>& moves,
                                                        const std::vector<state::DirectoryTime>& restore);
  void settle_directories();
  void to_attic(const std::string& from, const std::string& attic);
  void remove_given_up(const std::string& attics);
  void remove_if_possible(const std::string& path);
  void tidy_up();
  void copy();
  void take_back_after(const Error& problem, state::TxnId id);
  void require_ways(const std::vector<state::Move>& moves);
  void require_unmoved(const state::Prepared& prepared, const std::vector<Witness>& witnesses);
  state::TxnId switch_over(Transaction transaction, std::optional<std::int64_t> prepared);
  void settle_stage(const std::string& home, const std::string& name);
  state::LedgerEntry entry(state::TxnId id, std::int64_t started, const Account& account) const;
  state::DirectoryAttributes numbers(const FileEntry& entry, const std::string& path);

  Environment env_;
};

}  // namespace hambrel::txn
