// Shared by the files that implement State; nobody else includes it.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>
#include <sqlite3.h>

#include <optional>
#include <string>

#include "base/error.h"
#include "base/json_reader.h"
#include "state/state.h"

namespace hambrel::state {

struct State::Impl {
  std::string path;
  SQLite::Database database;
  // asked once for each path or directory: prepared once
  std::optional<SQLite::Statement> owners_query, directory_query, directory_insert;

  Impl(const std::string& host_path, int flags);
  mutable JsonReader reader;

  StatePackage read_package(SQLite::Statement& row) const;       // columns of kPackageColumns
  LedgerEntry read_entry(SQLite::Statement& row) const;          // columns of kLedgerColumns
  FileEntry read_file(SQLite::Statement& row, int first) const;  // columns of kFileColumns from `first`
  std::int64_t directory_row(const std::string& directory);
  std::optional<std::int64_t> find_directory(const std::string& directory);
  void insert_entry(LedgerEntry& entry);
  void insert_changes(TxnId id, const std::vector<PackageChange>& changes);
  std::int64_t insert_package(const StatePackage& package, const std::vector<FileEntry>& files);
  void end_journal();
};

inline constexpr const char* kPackageColumns = "id, manifest, reason, origin, digest, time, hold";
inline constexpr const char* kLedgerColumns =
    "id, started, ended, user, command, kind, note, result, problem, undo_of, plan, downloaded, previous, digest";
inline constexpr const char* kFileColumns =
    "d.path, f.name, f.type, f.mode, f.user, f.grp, f.mtime, f.size, f.digest, f.target, f.attributes, f.config";

/// A hold as the database keeps it: canonical JSON, empty for none.
std::string hold_text(const std::optional<Hold>& hold);
std::optional<Hold> hold_from(const std::string& text, const std::string& where);

/// Runs `work`, turning SQLite's exceptions into Error with the path and a way out.
template <typename Work>
auto guarded(const std::string& path, Work work) {
  try {
    return work();
  } catch (const SQLite::Exception& problem) {
    const int code = problem.getErrorCode();
    if (code == SQLITE_BUSY || code == SQLITE_LOCKED)
      throw Error(ErrorCode::Locked, "the state is busy in another run", path, "run the command again in a moment");
    if (code == SQLITE_CORRUPT || code == SQLITE_NOTADB)
      throw Error(ErrorCode::Untrusted, std::string("the state database is damaged: ") + problem.what(), path,
                  "bring it back from a backup; nothing was changed");
    if (code == SQLITE_CANTOPEN || code == SQLITE_READONLY)
      throw Error(ErrorCode::Io, std::string("the state database cannot be opened: ") + problem.what(), path,
                  "check its owner and mode; after a power cut `hambrel recover`, as root, mends it");
    throw Error(ErrorCode::Io, std::string("the state database failed: ") + problem.what(), path,
                "check free space and permissions, then run the command again");
  }
}

}  // namespace hambrel::state
