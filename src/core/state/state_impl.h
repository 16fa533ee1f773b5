// The connection that all stores of a state share, with what several of them do; nobody else includes it.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <sqlite3.h>

#include <map>
#include <memory>
#include <optional>
#include <string>

#include "base/error.h"
#include "base/json_reader.h"
#include "base/text.h"
#include "state/state.h"
#include "state/vfs.h"

namespace hambrel::state {

struct Connection {
  std::string path;  // for messages
  std::shared_ptr<Vfs> vfs;
  SQLite::Database database;
  // asked once for each path: prepared once
  std::optional<SQLite::Statement> slots_query, more_query, package_query;
  // those that a transaction asks for with each of its packages
  std::map<std::string_view, SQLite::Statement> repeated;
  // lists that were read; each stands as long as its row
  std::map<std::int64_t, std::shared_ptr<const FileList>> lists;
  std::size_t lists_size = 0;                                        // bytes
  std::map<std::int64_t, std::weak_ptr<const FileList>> held_lists;  // by others, perhaps: not to be read again
  /// What this connection committed last, with what changed: the copy of the ledger follows at once, and working it
  /// out of the rows again would cost another digest of each list.
  struct Committed {
    TxnId id{};
    std::string told;
  };
  Committed committed;

  Connection(std::string shown, std::shared_ptr<Vfs> files, int flags);
  /// One of `repeated`, in use: given back, it is reset and forgets its values. Two at once must not be the same.
  class [[nodiscard]] ScopedStatement {
   public:
    explicit ScopedStatement(SQLite::Statement& statement) : statement_(statement) {}
    ~ScopedStatement() {
      statement_.tryReset();
      statement_.clearBindings();
    }
    ScopedStatement(const ScopedStatement&) = delete;
    ScopedStatement& operator=(const ScopedStatement&) = delete;
    SQLite::Statement& operator*() { return statement_; }
    SQLite::Statement* operator->() { return &statement_; }

   private:
    SQLite::Statement& statement_;
  };
  ScopedStatement repeat(std::string_view sql) {  // a literal
    return ScopedStatement(repeated.try_emplace(sql, database, sql.data()).first->second);
  }
  mutable JsonReader reader;

  StatePackage read_package(SQLite::Statement& row) const;  // columns of kPackageColumns
  LedgerEntry read_entry(SQLite::Statement& row) const;     // columns of kLedgerColumns
  std::shared_ptr<const FileList> list_of(std::int64_t package_row);
  bool may_have_configuration(std::int64_t package_row);
  void note_configuration();  // step kConfigsFrom of the schema
  void forget_lists() {
    held_lists.clear();
    lists.clear();
    lists_size = 0;
  }
  /// There is no room for them, but they are as they were.
  void let_go_of_lists();
  std::vector<std::int64_t> rows_at(std::string_view path);  // installed packages that may have it
  /// How the index of paths follows a slot whose files were `before` and are `after`.
  static PackageChange::Index index_change(const FileList& before, const FileList& after);
  PackageChange::Index index_change(const PackageChange& change);
  /// Hashes of paths with the slots of packages, of all that changes.
  struct IndexRows {
    std::vector<std::pair<std::int64_t, std::int64_t>> gone, come;
  };
  static void add_to(IndexRows& rows, std::int64_t slot, const PackageChange::Index& change);
  void index(IndexRows rows);
  void renew_if_most_goes(IndexRows& rows);  // those that go are in order
  bool renew_if_most_leave(const std::vector<PackageChange>& changes, IndexRows& rows);
  std::int64_t list_size_of(std::int64_t package_row);  // bytes
  bool has_more(std::int64_t hash);
  std::int64_t slot_of(std::int64_t package_row);
  std::int64_t new_slot();
  bool numbers_are_dense = false;  // of the ledger, as was seen
  void require_dense_numbers();
  std::optional<std::int64_t> next_slot;  // known while the changes of a transaction are inserted
  void put_into(std::int64_t slot, std::int64_t package_row);
  void lists_from_rows();  // step kListsFrom of the schema
  /// Fills previous and digest. Returns the text of what changed, which the digest covers.
  [[nodiscard]] std::string insert_entry(LedgerEntry& entry, const std::vector<PackageChange>& changes);
  /// `told`: the text of what changed, where the rows will not tell it any more.
  void insert_entry_as_is(const LedgerEntry& entry, const std::string& told);
  void put_away(TxnId id, const std::vector<Move>& moves);
  StatePackage package_of(std::int64_t row);
  std::vector<PackageChange> read_changes(TxnId id);  // without files
  std::optional<TxnId> undone_by(TxnId id);
  std::string read_told(TxnId id);  // the text of what changed, out of the rows
  StatePackage as_recorded(std::int64_t package_row, const StatePackage& change);
  PackageChange::Brings brings_of(std::int64_t package_row);
  bool is_told_of(std::int64_t package_row);
  std::vector<PackageChange> changes_in_full(TxnId id);
  void insert_changes(TxnId id, const std::vector<PackageChange>& changes);
  void insert_change(TxnId id, std::int64_t sequence, const PackageChange& change, bool renewed, IndexRows& rows);
  std::int64_t insert_package(const StatePackage& package, const FileList& files, const char* state);
  std::vector<Generated> read_generated(SQLite::Statement& query) const;  // columns: path, value
  void put_generated(TxnId id, const std::vector<GeneratedChange>& changes);
  void put_answers(const std::vector<Answer>& answers);
  void put_picks(TxnId id, const std::vector<PickChange>& picks);
  void put_follows(TxnId id, const std::vector<FollowChange>& follows);
  void put_lines(TxnId id, const std::vector<LineChange>& lines);
  void put_runs(TxnId id, const std::vector<RunRecord>& runs);
  void mark_activated(std::int64_t prepared, TxnId by);
  void give_up(const std::vector<TxnId>& attics, TxnId by);
  void put_size(TxnId attic, ByteCount bytes);
  void end_journal();
  std::optional<TxnId> journal_id();

  /// Moves, or files of new packages, that can wait in the cache of the database. More of them are written to its file
  /// in between, and nobody else can look from then on: so that must not last as long as a sync.
  static constexpr std::size_t kMostHeld = 30'000;
};

inline constexpr const char* kPackageColumns = "id, manifest, reason, origin, digest, time, hold, shelved";
inline constexpr const char* kLedgerColumns =
    "id, started, ended, user, command, kind, note, result, problem, undo_of, plan, downloaded, previous, digest, "
    "chain, moves";

/// An architecture as it was written: before chain 3 "any" was the word for what is independent of machines.
std::string architecture_from(std::string written);
/// And as an entry of a chain has it.
std::string architecture_in(const std::string& arch, int chain);

/// A hold as the database keeps it: canonical JSON, empty for none.
std::string hold_text(const std::optional<Hold>& hold);
std::optional<Hold> hold_from(const std::string& text, const std::string& where);

// What a value of ours is to SQLite.
inline std::int64_t to_sql(TxnId id) { return number(id); }
inline std::int64_t to_sql(ByteCount bytes) { return static_cast<std::int64_t>(bytes); }
inline std::int64_t to_sql(std::int64_t value) { return value; }
inline std::int64_t to_sql(std::uint32_t value) { return value; }
inline std::int64_t to_sql(int value) { return value; }
inline std::int64_t to_sql(bool value) { return value ? 1 : 0; }
inline std::string to_sql(const Digest& digest) { return digest.hex(); }
inline const std::string& to_sql(const std::string& text) { return text; }
inline std::string to_sql(const SharedText& text) { return text.string(); }
inline const char* to_sql(const char* text) { return text; }

/// An enumeration as the database keeps it. What is none of its values was never written by us: whoever reads it says
/// so (guarded()) instead of going on with a kind that no code knows.
template <typename Kind>
Kind kind_from(std::int64_t stored, Kind last, const std::string& where) {
  if (stored < 0 || stored > static_cast<std::int64_t>(last))
    throw Error(ErrorCode::Invalid, fmt::format("it records an unknown kind, {}", stored), where);
  return static_cast<Kind>(stored);
}

/// A path that was read, of whatever is in the root: one that leads elsewhere is no path of ours.
inline void require_clean(std::string_view path, const std::string& where) {
  if (!os::is_clean(path))
    throw Error(ErrorCode::Invalid, fmt::format("it names \"{}\", which is no path in this root", printable(path)),
                where);
}

/// Gives a statement its values, in their order. Those that are not there are NULL.
template <typename... Values>
void set_values(SQLite::Statement& statement, const Values&... values) {
  int place = 0;
  const auto one = [&](const auto& value) {
    ++place;
    if constexpr (requires { value.has_value(); }) {
      if (value)
        statement.bind(place, to_sql(*value));
      else
        statement.bind(place);
    } else {
      statement.bind(place, to_sql(value));
    }
  };
  (one(values), ...);
}

/// Does it once with these values; it may be given others then. Returns how many rows changed.
template <typename... Values>
int run(SQLite::Statement& statement, const Values&... values) {
  set_values(statement, values...);
  const int changed = statement.exec();
  statement.reset();
  return changed;
}

/// Runs `work`, turning SQLite's exceptions, and what is said of texts in the database that can't be read, into Error
/// with the path and a way out.
template <typename Work>
auto guarded(const std::string& path, Work work) {
  try {
    return work();
  } catch (const SQLite::Exception& problem) {
    const int code = problem.getErrorCode();
    if (code == SQLITE_BUSY) throw StateMoved(path);
    const bool is_altered = code == SQLITE_ERROR && std::string_view(problem.what()).starts_with("no such ");  // table
    // two rows where one can be: some of what belongs together is missing
    if (code == SQLITE_CORRUPT || code == SQLITE_NOTADB || code == SQLITE_CONSTRAINT || is_altered)
      throw Error(ErrorCode::Untrusted, std::string("the state database is damaged: ") + problem.what(), path,
                  "`hambrel repair --rebuild` recreates it; nothing was changed");
    if (code == SQLITE_CANTOPEN || code == SQLITE_READONLY)
      throw Error(ErrorCode::Io, std::string("the state database cannot be opened: ") + problem.what(), path,
                  "check its owner and mode");
    throw Error(ErrorCode::Io, std::string("the state database failed: ") + problem.what(), path,
                "check free space and permissions, then run the command again");
  } catch (const Error& problem) {
    if (problem.code() != ErrorCode::Invalid || problem.where() != path || !problem.hint().empty()) throw;
    throw Error(ErrorCode::Untrusted, "the state database is damaged: " + problem.problem(), path,
                "`hambrel repair --rebuild` recreates it; nothing was changed");
  }
}

}  // namespace hambrel::state
