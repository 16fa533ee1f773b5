// What the state of a root records, as plain values.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/rarely.h"
#include "base/shared_text.h"
#include "model/file_list.h"
#include "model/universe.h"

namespace hambrel::state {

enum class TxnId : std::int64_t {};
inline std::int64_t number(TxnId id) { return static_cast<std::int64_t>(id); }

struct StatePackage {
  std::int64_t row = 0;  // 0: not in the state yet
  Package package;
  Reason reason = Reason::Wanted;
  std::string origin;  // Offer::title() of where it came from
  Digest digest;       // of the package file
  std::int64_t time = 0;
  std::optional<Hold> hold{};
  bool shelved = false;  // its files wait in the attic, and it is not among what is installed
};

/// A version that is not installed any more.
struct Replaced {
  StatePackage package;
  TxnId left{};  // the transaction in which it left last
};

/// A file together with the package that owns it.
struct OwnedFile {
  std::int64_t package_row = 0;
  std::string package_name;
  FileEntry entry;
};

// One step of a switch. Each can be told done or not done from inode numbers alone, and be taken back.
enum class MoveKind : std::uint8_t {  // stored in the database: never renumber
  Place = 0,                          // rename(place -> path), nothing stood there        done: path has inode_new
  Exchange = 1,                       // rename_exchange(place, path)                      done: path has inode_new
  Remove = 2,                         // rename(path -> place)                             done: place has inode_old
  Attributes = 3,                     // mode and owner of a directory that stays          doing it twice does no harm
};

struct DirectoryAttributes {
  std::uint32_t mode = 0, uid = 0, gid = 0;
  bool operator==(const DirectoryAttributes&) const = default;
};

/// Of a directory, before and after.
struct AttributesChange {
  DirectoryAttributes before, after;
};

/// A large change has one for each file, and holds several lists of them: it is small.
struct Move {
  SharedText path;   // relative to the root
  SharedText place;  // relative to the transaction's directory in its home
  SharedText home;   // where the transaction has a directory on the file system of `path`, relative to the root
  std::uint64_t inode_new = 0, inode_old = 0;
  Rarely<AttributesChange> attributes{};  // for Attributes
  /// When what was put away with it was changed last, which was by the move itself: known from the commit on. What was
  /// changed later is not what was put away. 0: not known.
  std::int64_t put_away_seconds = 0, put_away_nanoseconds = 0;
  MoveKind kind = MoveKind::Place;
  bool plain = false;                 // known to move no directory; not kept in the journal
  ByteCount leaves = kLeavesUnknown;  // bytes that go to the attic with it; not kept in the journal

  static constexpr ByteCount kLeavesUnknown = ~ByteCount{0};
  const AttributesChange& attributes_change() const {
    static const AttributesChange none;
    return attributes ? *attributes : none;
  }
};

/// The time of a directory whose entries a switch touches: put back when the switch is taken back or undone.
struct DirectoryTime {
  std::string path;
  std::int64_t before_seconds = 0, before_nanoseconds = 0;
  std::int64_t after_seconds = 0, after_nanoseconds = 0;  // known from the commit on
};

/// The transaction in flight.
struct Journal {
  TxnId id{};
  std::string directory;  // in each home that its moves name: stage/ID, or attic/N; becomes attic/ID
  std::string kind, command, user;
  std::int64_t started = 0;
  std::vector<Move> moves;
  std::vector<DirectoryTime> times;
};

/// What happened to one package name. Rows are of the packages table; none for "was not there".
struct PackageChange {
  std::string name;
  std::optional<std::int64_t> before_row, after_row;
  std::optional<StatePackage> before, after;  // as values; `after` with row 0 is new to the state
  FileList files;                             // of a new `after`
  /// How the index of paths follows, where that was worked out before.
  struct Index {
    std::vector<std::int64_t> gone, come;  // hashes of paths, ascending
  };
  std::optional<Index> index{};
  /// What came into the state with it: digests of the manifest and of the list of files. Read back from a text, or
  /// worked out by digests_of() before a commit, which does it itself where nobody has.
  struct Brings {
    Digest manifest, files;
  };
  std::optional<Brings> brings{};
};

/// Of a new `after`: none if the change brings nothing, or a row that is there already.
std::optional<PackageChange::Brings> digests_of(const PackageChange& change);

/// Something in the root that a program of a package made, not the package itself.
struct Generated {
  std::string package, program;  // whose, and what was run
  bool by_trigger = false;       // it can be made again at any time; else it is data from then on
  FileEntry entry;               // as it was left; of no time
};

/// What became of a path that programs make. At least one side is there.
struct GeneratedChange {
  std::string path;
  std::optional<Generated> before{}, after{};
};
/// As canonical JSON without its path, and back.
std::string text_of(const Generated& one);
Generated generated_from(std::string path, const std::string& text, const std::string& where);
/// For the digest of an entry, see digest_of().
std::string text_of(const GeneratedChange& change);

/// A program that was run in a transaction.
struct RunRecord {
  std::string package, program;
  std::string occasion;  // "trigger", or when a hook runs: install, upgrade, ...
  std::int64_t milliseconds = 0;
  std::string ended;   // empty: as it should
  std::string output;  // the last of it
};

/// A line of a file that is edited as text: of passwd, group, shadow or gshadow.
struct LineChange {
  enum class What { Add, Drop, Join, Leave };  // stored in the database: never renumber
  std::string path;
  What what = What::Add;
  std::string line;    // of Join and Leave: what it begins with, before ':'
  std::string member;  // of Join and Leave
  bool operator==(const LineChange&) const = default;
};

/// The administrator's choice among the candidates for a path. Empty: none.
struct PickChange {
  std::string path, before, after;  // files, relative to the root
};

/// The channel that the administrator has a package follow. Empty: those of its repository.
struct FollowChange {
  std::string name, before, after;
  bool operator==(const FollowChange&) const = default;
};

/// Generated::program of a link that leads to a candidate.
inline constexpr const char* kCandidates = "candidates";

inline constexpr const char* kLeftOut = "left out";  // RunRecord::ended of what was due and not run

/// To a question of a package, which is no secret; none: it is forgotten.
struct Answer {
  std::string package, key;
  std::optional<std::string> value{};
};

/// What a commit records beside the packages.
struct Commit {
  const std::vector<Move>* moves = nullptr;  // as they were done
  std::vector<DirectoryTime> times;          // of the directories that the moves touched, as they are now
  std::vector<TxnId> gives_up;               // attics that are given up with this
  std::optional<ByteCount> attic{};          // the size of this one's, if known
  std::optional<std::int64_t> prepared{};    // what is activated with this
  std::vector<GeneratedChange> generated{};  // what programs of packages made or removed
  std::vector<RunRecord> runs{};
  std::vector<LineChange> lines{};  // of accounts
  std::vector<PickChange> picks{};
  std::vector<Answer> answers{};
  std::vector<FollowChange> follows{};
};

/// A configuration file as it was when a checkpoint was made.
struct CheckpointFile {
  std::string path;
  Digest digest;
  ByteCount size = 0;
  std::uint32_t uid = 0, gid = 0;
};

struct Checkpoint {
  std::int64_t id = 0;
  std::string name, note;
  TxnId after{};  // the last transaction before it
  std::int64_t time = 0;
  std::vector<CheckpointFile> files;  // edited ones, by path
};

/// A transaction that was staged and waits for its switch.
struct Prepared {
  std::int64_t id = 0;
  std::int64_t time = 0;
  TxnId after{};                                  // the last transaction that was done before it
  std::string kind, command, user, note, record;  // record: of the plan (plan_record.h)
  ByteCount staged = 0;                           // bytes on the disk
  bool at_boot = false;                           // to be activated when the system starts
};

/// The attic of a transaction that stands: what undo, redo and rollback need of it.
struct Attic {
  TxnId id{};
  std::int64_t time = 0;             // when the transaction ended
  std::optional<ByteCount> bytes{};  // of its files, if that was ever counted
};

/// The kind of an entry that only gave up attics.
inline constexpr const char* kGivingUp = "tidy";
/// The kind of an entry that made a lost state anew.
inline constexpr const char* kRebuilding = "rebuild";

/// What the digests of new entries are made of. 1: the entry alone; 2: also what changed, and the moves; 3: the same,
/// where what is independent of machines is called so.
inline constexpr int kChain = 3;

struct LedgerEntry {
  TxnId id{};
  std::int64_t started = 0, ended = 0;
  std::string user, command, kind;  // kind: install, remove, upgrade, undo, ...
  std::string note;                 // --reason TEXT
  std::string result;               // "done", "failed", "taken back"
  std::string problem;              // why it failed
  std::optional<TxnId> undo_of;
  std::string record;  // of the plan and what was decided (plan_record.h)
  ByteCount downloaded = 0;
  int chain = kChain;  // what the digest is made of: see chain_digest()
  Digest moves;        // of the moves, from chain 2 on
  Digest previous, digest;
};

}  // namespace hambrel::state
