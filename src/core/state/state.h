// The state of one root: /var/lib/hambrel/state.sqlite.
//
// Invariants
//   S1 the schema has a version (PRAGMA user_version); older ones are migrated on opening, newer ones refused
//   S2 what packages are installed, what files they own and the ledger change together, in one SQLite transaction
//   S3 at most one journal stands; while it does, the tables describe the root as it was before it
//   S4 each ledger entry holds the digest of the one before it, made of all that going back relies on; entries are
//      never changed or removed, and the state knows which one is the last
//   S5 rows of packages that were replaced stay while the attic can bring them back (state 'attic')
// Rollback journal, synchronous EXTRA: a commit that was answered is on the disk, the removal of the journal file
// included. Who looks needs no permission to write, takes no lock and changes nothing (vfs.h).
#pragma once

#include <functional>
#include <memory>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"
#include "os/file_system.h"
#include "state/file_list.h"
#include "state/ledger_text.h"
#include "state/records.h"

namespace hambrel::state {

enum class Access { Look, Change };

/// Another run changed the state while it was looked at: what was read is not of one moment. Look again.
class StateMoved : public Error {
 public:
  explicit StateMoved(std::string where)
      : Error(ErrorCode::Locked, "the state is being changed by another run", std::move(where),
              "run the command again in a moment") {}
};

class State {
 public:
  /// Opens the database file `path` below the root. Look: it must exist. Change: it is made or migrated; the caller
  /// holds the lock of the root.
  /// Throws Error{Invalid} for a schema of a newer program or a file that is no state, Error{Untrusted} if damaged.
  State(os::FileSystem& root, const std::string& path, Access access);
  /// An empty one in memory, for a root that has none yet.
  State();
  ~State();
  State(const State&) = delete;
  State& operator=(const State&) = delete;

  /// As long as it lives, all that is looked at is of one moment, and asking much is cheap: no other run's change is
  /// seen, and none can be made here.
  class [[nodiscard]] ReadTransaction {
   public:
    explicit ReadTransaction(const State& state);
    ~ReadTransaction();
    ReadTransaction(const ReadTransaction&) = delete;
    ReadTransaction& operator=(const ReadTransaction&) = delete;

   private:
    const State& state_;
  };

  // Looking
  std::vector<StatePackage> installed() const;  // by name
  std::vector<Replaced> replaced() const;       // those that left last come first
  std::vector<StatePackage> shelved() const;    // by name
  std::shared_ptr<const FileList> files_of(std::int64_t package_row) const;
  std::vector<FileEntry> configuration_of(std::int64_t package_row) const;  // its regular files that are configuration
  /// Installed packages' entries with this path (several for shared directories).
  std::vector<OwnedFile> owners_of(std::string_view path) const;
  /// One of them that is not among the rows in `but`; all are alike in what they may share, so one tells as much.
  std::optional<OwnedFile> owner_of(std::string_view path, const std::set<std::int64_t>& but) const;
  /// By number in its list: those of its files that other installed packages may have, too. Some that no other has can
  /// be among them, never is one missing.
  std::vector<std::size_t> shared_files_of(std::int64_t package_row) const;
  /// May more than one installed package have this path? False is certain.
  bool may_be_shared(std::string_view path) const;
  /// May an installed package have this path? Answered from the index alone; false is certain.
  bool may_be_owned(std::string_view path) const;
  StatePackage package(std::int64_t row) const;
  /// Not so for a version that is known only from the ledger of a state that was lost.
  bool knows_files_of(std::int64_t package_row) const;
  std::optional<Journal> journal() const;
  std::vector<LedgerEntry> ledger(std::size_t most) const;  // newest first
  std::optional<LedgerEntry> ledger_entry(TxnId id) const;
  std::vector<PackageChange> changes_of(TxnId id) const;  // without files
  std::vector<Move> moves_of(TxnId id) const;
  std::vector<DirectoryTime> times_of(TxnId id) const;
  /// The transaction that took `id` back, if one did and was not itself taken back since.
  std::optional<TxnId> undone_by(TxnId id) const;
  std::vector<Checkpoint> checkpoints() const;  // oldest first
  TxnId next_id() const;
  /// The last transaction that changed the root, 0 for none. Giving up attics is none.
  TxnId last_done() const;
  std::vector<Attic> attics() const;  // oldest first
  /// The transaction by which the attic that holds the files of `id` was given up, if it was.
  std::optional<TxnId> given_up(TxnId id) const;
  /// What waits to be activated.
  std::optional<Prepared> prepared() const;
  std::string prepared_value(std::int64_t id) const;
  std::int64_t next_prepared() const;
  struct Fate {
    std::optional<TxnId> activated;  // by which transaction; nothing while it waits
  };
  /// Nothing for what was discarded, or never was.
  std::optional<Fate> fate_of_prepared(std::int64_t id) const;
  /// changes_text() of a transaction, in the words of its chain: of what the state records by now.
  std::string changes_told(TxnId id) const;
  /// When each transaction ended, by number: seconds since 1970.
  std::vector<std::pair<TxnId, std::int64_t>> ends() const;
  /// What is wrong with the database itself, or with the chain of the ledger, its length included; nothing if all is
  /// sound.
  std::vector<std::string> damage() const;

  // Changing; each is one SQLite transaction and durable when it returns
  /// Waits for what has to be on the disk before something that says so is. Called once, while nothing is durable yet
  /// and others can look; if it throws, nothing will be.
  using Await = std::function<void()>;
  void write_journal(const Journal& journal, const Await& await = {});
  /// Step 9: packages, files, ledger entry and the end of the journal at once. Fills previous and digest of the entry.
  void commit(LedgerEntry entry, const std::vector<PackageChange>& changes, const Commit& beside,
              const Await& await = {});
  /// The journal's transaction was taken back: the journal ends, the ledger says so.
  void close_taken_back(LedgerEntry entry);
  /// New packages among the changes get their rows now, so that little is left to be recorded later; `value` is asked
  /// for after that.
  void prepare(const Prepared& prepared, std::vector<PackageChange>& changes,
               const std::function<std::string()>& value);
  void drop_prepared(std::int64_t id);
  void activate_at_boot(std::int64_t id, bool at_boot);
  void add_checkpoint(const Checkpoint& checkpoint);
  void drop_checkpoint(std::int64_t id);
  /// A ledger entry for a transaction that failed before its journal, or that only changed reasons or gave up attics.
  void record(LedgerEntry entry, const std::vector<PackageChange>& changes, const std::vector<TxnId>& gives_up = {});
  /// Fills an empty state with what is known of another one that was lost: its ledger as it stands, the packages and
  /// files that the changes hold. `unknown`: versions, as "NAME VERSION ARCH", whose files are not known; where one of
  /// them was installed, `last`, which becomes the next entry, records that it is not any more.
  void restore(const std::vector<LedgerRecord>& history, const std::set<std::string>& unknown, LedgerEntry last);
  /// What counting their files gave.
  void remember_sizes(const std::vector<Attic>& attics);

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

/// Tells one content of a state file from another without opening the database: SQLite counts changes in the head of
/// its file ("file change counter", https://www.sqlite.org/fileformat.html). Empty where there is no state, or where a
/// journal file lies beside it, so that only SQLite can say what holds.
std::string identity_of(os::FileReader& root, const std::string& path);

/// The digest of S4: SHA-256 over the canonical JSON of the entry's members, `previous` included; from chain 2 on also
/// of `changes`, as changes_text() gives them, and of the moves' digest.
Digest chain_digest(const LedgerEntry& entry, std::string_view changes);
/// What happened to packages, as canonical JSON: what the chain covers, and what a text of the ledger tells.
/// `chain`: of the entry, whose digest covers it.
std::string changes_text(const std::vector<PackageChange>& changes, int chain = kChain);
/// SHA-256 over all that is recorded of the moves; of none: over nothing.
Digest digest_of(const std::vector<Move>& moves);

}  // namespace hambrel::state
