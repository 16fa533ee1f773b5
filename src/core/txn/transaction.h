// The transaction as a value: planned, then ready to be switched to.
//
// A Planned is what a command wants: nothing of it is on the disk. The engine stages it and has a Transaction, which
// names everything that the switch needs: moves with the inode numbers of what was staged, directory times, what the
// state is to record, the account for the ledger. That is journaled and executed at once, or encoded and kept until
// somebody activates it; its reverse is planned from what the ledger keeps of it (undo.h).
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "archive/package_reader.h"
#include "base/assert.h"
#include "os/neighbours.h"
#include "os/preview.h"
#include "rehearsal/runs.h"
#include "txn/tree_change.h"

namespace hambrel::txn {

// In each home (staging_homes.h) a transaction has one of these:
inline constexpr const char* kStage = "stage";
inline constexpr const char* kAttic = "attic";
// In that directory lie, each under a numbered place: what comes, in whose place what was there lies afterwards;
inline constexpr const char* kTree = "tree";
// and what goes without anything coming in its place.
inline constexpr const char* kRemoved = "removed";

/// What goes into the ledger beside the outcome.
struct Account {
  std::string kind, command, user, note;
  std::string record;  // of the plan (plan_record.h)
  ByteCount downloaded = 0;
  std::optional<state::TxnId> undo_of{};
};

/// Of what was done from `started` to `ended`, in seconds since 1970.
state::LedgerEntry entry_of(state::TxnId id, std::int64_t started, std::int64_t ended, const Account& account);

struct Source {
  Package package;
  archive::PackageReader* reader = nullptr;  // none where nothing is unpacked
};

/// The file of a package version that was installed once, wherever it can still be had.
struct PackageFile {
  archive::PackageReader* reader = nullptr;  // none: nowhere
  bool at_hand = false;                      // nothing has to be fetched
};
using FileOf = std::function<PackageFile(const state::StatePackage&)>;

/// How programs of packages are run.
struct RehearsalTerms {
  os::PreviewLimits limits{};
  bool discard_undeclared = false;  // what they write beyond what is declared is dropped; else it is refused
  bool leave_out = false;           // none is run: that is recorded, and they are due from then on
};

struct [[nodiscard]] Planned {
  plan::Plan plan;              // as it is shown
  TreeChange tree;              // what is staged and moved,
  std::vector<Source> sources;  // in the order of the entering packages that the tree was planned with;
  std::string attic;            // or, where this is not empty, what lies in it already
  std::vector<state::Move> moves;
  std::vector<state::PackageChange> changes;  // what the state records
  std::vector<state::DirectoryTime> restore;  // directory times to be put back after the moves
  std::vector<state::TxnId> gives_up;         // attics that are given up with it (retention.h)
  std::optional<state::TxnId> undo_of{};
  rehearsal::Runs runs{};  // programs that are due
  RehearsalTerms terms{};
  /// Of an undo: programs whose work comes back as it was, by package and text; or all that are due would only make
  /// again what comes back.
  std::set<std::pair<std::string, std::string>> restored{};
  bool restores_all = false;
  bool restores_data = false;  // what hooks had made comes back: none of them runs
  /// Programs that are due whatever changes, and why: what they made is missing, or they were left out.
  struct Due {
    std::string package, program, occasion, why;
  };
  std::vector<Due> due{};
  /// What is made anew where other things come from an attic: files of accounts, which somebody edited since, and links
  /// to candidates.
  struct Content {
    std::string path, text;  // of a link: where it leads
    bool link = false, goes = false;
  };
  std::vector<Content> contents{};
  std::vector<state::LineChange> lines{};  // of accounts
  std::vector<state::PickChange> picks{};
  std::vector<state::FollowChange> follows{};
  std::vector<plan::ServiceStep> services{};  // what becomes of services, beside the switch
  std::vector<state::Answer> answers{};       // to be remembered
  std::vector<std::string> secrets{};         // answers that nothing printed may show
  /// What was read to plan this and must be so still: by path, with the digest of its content.
  std::map<std::string, Digest> read{};
  std::vector<state::GeneratedChange> generated{};  // what becomes of what programs made earlier
  /// Where package files are still arriving: returns the bytes that were fetched when all are whole, or throws what
  /// went wrong. Called once everything is staged.
  std::function<ByteCount()> arrival{};
  /// The plan tells what is known of the files, too.
  void tell_of_files() {
    plan.notices.insert(plan.notices.end(), tree.notices.begin(), tree.notices.end());
    plan.configs = tree.configs;
  }
  /// The plan tells it, too.
  void add_follow(const state::FollowChange& one) {
    follows.push_back(one);
    plan.follows.push_back({one.name, one.before, one.after});
  }
  /// Gives back what is needed until everything is ready and not afterwards: there is as much of it as files. It can't
  /// be carried out again then.
  void spend() {
    HAMBREL_ASSERT(!spent, "it is carried out once");
    spent = true;
    tree.puts = std::vector<Put>();
    tree.moves = std::vector<PlannedMove>();
    moves = std::vector<state::Move>();
  }
  bool spent = false;
  bool does_nothing() const {
    return plan.steps.empty() && tree.moves.empty() && moves.empty() && runs.empty() && contents.empty() &&
           picks.empty() && follows.empty();
  }
};

/// What a move found at its path when it was made ready. What has changed since must not be switched away unseen.
struct Witness {
  SharedText path;
  bool there = false;
  std::uint64_t inode = 0, size = 0;
  std::int64_t mtime_seconds = 0, mtime_nanoseconds = 0;
  bool operator==(const Witness&) const = default;
};

struct [[nodiscard]] Transaction {
  Account account;
  state::Journal journal;  // without times: these are taken when it is switched to
  std::vector<state::DirectoryTime> restore;
  std::vector<state::PackageChange> changes;
  std::vector<state::TxnId> gives_up;
  std::vector<state::GeneratedChange> generated{};
  std::vector<state::RunRecord> runs{};
  std::vector<state::LineChange> lines{};
  std::vector<state::PickChange> picks{};
  std::vector<state::Answer> answers{};
  std::vector<state::FollowChange> follows{};
  std::optional<ByteCount> attic{};  // bytes that go there, if known
  std::vector<Witness> witnesses;
};

/// As bytes (CBOR, RFC 8949). Packages that the state knows are named by their rows.
std::string encode(const Transaction& transaction);
/// Throws Error{Untrusted} if the bytes are none of encode()'s.
Transaction decode(const std::string& bytes, const state::State& state);

/// For packages whose content comes from the attic: what it does not hold comes from their files. `kept[i]` is the
/// package that came in as sources[i], or nullptr where its file is at hand anyway. The steps then say where from, and
/// what is fetched. Throws Error{Refused} by name for a file that is nowhere.
void source_missing_content(Planned& planned, const std::vector<const state::StatePackage*>& kept,
                            const FileOf& file_of);

Witness witness_of(os::Looker& looker, const SharedText& path);

}  // namespace hambrel::txn
