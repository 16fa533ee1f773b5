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
#include "model/file_list.h"
#include "os/file_system.h"
#include "state/attic_store.h"
#include "state/checkpoint_store.h"
#include "state/generated_store.h"
#include "state/journal_store.h"
#include "state/ledger_store.h"
#include "state/ledger_text.h"
#include "state/package_store.h"
#include "state/path_store.h"
#include "state/prepared_store.h"
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

/// The connection lives as long as the state; made before its stores.
class ConnectionOwner {
 protected:
  explicit ConnectionOwner(std::unique_ptr<Connection> connection);
  ~ConnectionOwner();
  ConnectionOwner(const ConnectionOwner&) = delete;
  ConnectionOwner& operator=(const ConnectionOwner&) = delete;
  std::unique_ptr<Connection> connection_;
};

class State : private ConnectionOwner,
              public PackageStore,
              public PathStore,
              public LedgerStore,
              public JournalStore,
              public AtticStore,
              public CheckpointStore,
              public GeneratedStore,
              public PreparedStore {
 public:
  /// Opens the database file `path` below the root. Look: it must exist. Change: it is made or migrated; the caller
  /// holds the lock of the root.
  /// Throws Error{Invalid} for a schema of a newer program or a file that is no state, Error{Untrusted} if damaged.
  State(os::FileSystem& root, const std::string& path, Access access);
  /// An empty one in memory, for a root that has none yet.
  State();
  ~State();

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
    const bool is_within_;  // another one
  };

  // What concerns several stores; each change is one SQLite transaction and durable when it returns
  /// What is wrong with the database itself, or with the chain of the ledger, its length included; nothing if all is
  /// sound.
  std::vector<std::string> damage() const;
  /// Step 9: packages, files, ledger entry and the end of the journal at once. Fills previous and digest of the entry.
  void commit(LedgerEntry entry, const std::vector<PackageChange>& changes, const Commit& beside,
              const Await& await = {});
  /// Fills an empty state with what is known of another one that was lost: its ledger as it stands, the packages and
  /// files that the changes hold. `unknown`: versions, as "NAME VERSION ARCH", whose files are not known; where one of
  /// them was installed, `last`, which becomes the next entry, records that it is not any more.
  void restore(const std::vector<LedgerRecord>& history, const std::set<std::string>& unknown, LedgerEntry last);

 private:
  explicit State(std::unique_ptr<Connection> connection);
  using ConnectionOwner::connection_;
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
/// SHA-256 over all that is recorded of the moves, of what programs made and of lines of accounts; of none: over
/// nothing.
Digest digest_of(const std::vector<Move>& moves, const std::vector<GeneratedChange>& generated,
                 const std::vector<LineChange>& lines, const std::vector<FollowChange>& follows);

}  // namespace hambrel::state
