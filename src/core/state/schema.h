// The schema of the state and the steps from each version of it to the next.
//
// The files of a package are one value (file_list.h), also for versions that only the attic has. Which package a path
// belongs to is asked of an index of hashes, for what is installed only: paths has one owner of each path, more_paths
// those beside it (directories, mostly). An owner is told by its slot, which a new version of a package takes over from
// the one before, so that an upgrade changes the index only where the paths differ.
#pragma once

#include <array>
#include <string_view>

namespace hambrel::state {

inline constexpr int kApplicationId = 0x48414D42;  // "HAMB"

/// Step i leads from version i to version i + 1. Never change a step that was released: add one.
inline constexpr std::array<std::string_view, 13> kMigrations{R"sql(
CREATE TABLE packages(
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL, version TEXT NOT NULL, arch TEXT NOT NULL,
  manifest TEXT NOT NULL,
  reason TEXT NOT NULL CHECK(reason IN ('wanted', 'pulled-in')),
  origin TEXT NOT NULL, digest TEXT NOT NULL, time INTEGER NOT NULL,
  state TEXT NOT NULL CHECK(state IN ('installed', 'attic')));
CREATE UNIQUE INDEX packages_installed ON packages(name, version, arch) WHERE state = 'installed';
CREATE TABLE directories(id INTEGER PRIMARY KEY, path TEXT NOT NULL UNIQUE);
CREATE TABLE files(
  package INTEGER NOT NULL REFERENCES packages(id) ON DELETE CASCADE,
  directory INTEGER NOT NULL REFERENCES directories(id), name TEXT NOT NULL,
  type INTEGER NOT NULL, mode INTEGER NOT NULL, user TEXT NOT NULL, grp TEXT NOT NULL,
  mtime INTEGER NOT NULL, size INTEGER NOT NULL, digest BLOB, target TEXT, attributes TEXT, config INTEGER NOT NULL,
  PRIMARY KEY(package, directory, name)) WITHOUT ROWID;
CREATE INDEX files_by_path ON files(directory, name);
CREATE TABLE ledger(
  id INTEGER PRIMARY KEY,
  started INTEGER NOT NULL, ended INTEGER NOT NULL, user TEXT NOT NULL, command TEXT NOT NULL, kind TEXT NOT NULL,
  note TEXT NOT NULL, result TEXT NOT NULL CHECK(result IN ('done', 'failed', 'taken back')), problem TEXT NOT NULL,
  undo_of INTEGER REFERENCES ledger(id), plan TEXT NOT NULL, downloaded INTEGER NOT NULL,
  previous TEXT NOT NULL, digest TEXT NOT NULL);
CREATE TABLE changes(
  ledger INTEGER NOT NULL REFERENCES ledger(id), seq INTEGER NOT NULL, name TEXT NOT NULL,
  before_package INTEGER REFERENCES packages(id), before_reason TEXT,
  after_package INTEGER REFERENCES packages(id), after_reason TEXT,
  PRIMARY KEY(ledger, seq)) WITHOUT ROWID;
CREATE TABLE journal(
  one INTEGER PRIMARY KEY CHECK(one = 1),
  txn INTEGER NOT NULL, directory TEXT NOT NULL, kind TEXT NOT NULL, command TEXT NOT NULL, user TEXT NOT NULL,
  started INTEGER NOT NULL);
CREATE TABLE moves(
  txn INTEGER NOT NULL, seq INTEGER NOT NULL, kind INTEGER NOT NULL, path TEXT NOT NULL, place TEXT NOT NULL,
  inode_new INTEGER NOT NULL, inode_old INTEGER NOT NULL,
  mode_before INTEGER NOT NULL, uid_before INTEGER NOT NULL, gid_before INTEGER NOT NULL,
  mode_after INTEGER NOT NULL, uid_after INTEGER NOT NULL, gid_after INTEGER NOT NULL,
  PRIMARY KEY(txn, seq)) WITHOUT ROWID;
CREATE TABLE times(
  txn INTEGER NOT NULL, path TEXT NOT NULL,
  before_s INTEGER NOT NULL, before_ns INTEGER NOT NULL, after_s INTEGER NOT NULL, after_ns INTEGER NOT NULL,
  PRIMARY KEY(txn, path)) WITHOUT ROWID;
)sql",
                                                              R"sql(
ALTER TABLE packages ADD COLUMN hold TEXT;
ALTER TABLE changes ADD COLUMN before_hold TEXT;
ALTER TABLE changes ADD COLUMN after_hold TEXT;
)sql",
                                                              R"sql(
ALTER TABLE moves ADD COLUMN home TEXT NOT NULL DEFAULT 'var/lib/hambrel';
UPDATE journal SET directory = substr(directory, length('var/lib/hambrel/') + 1);
)sql",
                                                              R"sql(
CREATE TABLE lists(package INTEGER PRIMARY KEY REFERENCES packages(id) ON DELETE CASCADE, list BLOB NOT NULL);
CREATE TABLE paths(hash INTEGER PRIMARY KEY, slot INTEGER NOT NULL);
CREATE TABLE more_paths(hash INTEGER NOT NULL, slot INTEGER NOT NULL, PRIMARY KEY(hash, slot)) WITHOUT ROWID;
ALTER TABLE packages ADD COLUMN slot INTEGER NOT NULL DEFAULT 0;
UPDATE packages SET slot = id;
CREATE INDEX packages_by_slot ON packages(slot) WHERE state = 'installed';
)sql",
                                                              R"sql(
CREATE TABLE checkpoints(
  id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, after INTEGER NOT NULL, time INTEGER NOT NULL, note TEXT NOT NULL);
CREATE TABLE checkpoint_files(
  checkpoint INTEGER NOT NULL REFERENCES checkpoints(id) ON DELETE CASCADE, path TEXT NOT NULL,
  digest TEXT NOT NULL, size INTEGER NOT NULL, uid INTEGER NOT NULL, gid INTEGER NOT NULL,
  PRIMARY KEY(checkpoint, path)) WITHOUT ROWID;
CREATE INDEX ledger_undo_of ON ledger(undo_of) WHERE undo_of IS NOT NULL;
)sql",
                                                              R"sql(
CREATE TABLE prepared(
  id INTEGER PRIMARY KEY, time INTEGER NOT NULL, after INTEGER NOT NULL, kind TEXT NOT NULL, command TEXT NOT NULL,
  user TEXT NOT NULL, note TEXT NOT NULL, plan TEXT NOT NULL, staged INTEGER NOT NULL, at_boot INTEGER NOT NULL,
  value BLOB NOT NULL, activated INTEGER);
ALTER TABLE packages ADD COLUMN shelved INTEGER NOT NULL DEFAULT 0;
ALTER TABLE changes ADD COLUMN before_shelved INTEGER NOT NULL DEFAULT 0;
ALTER TABLE changes ADD COLUMN after_shelved INTEGER NOT NULL DEFAULT 0;
CREATE TABLE attics(txn INTEGER PRIMARY KEY, bytes INTEGER NOT NULL, dropped INTEGER);
)sql",
                                                              R"sql(
ALTER TABLE ledger ADD COLUMN chain INTEGER NOT NULL DEFAULT 1;
ALTER TABLE ledger ADD COLUMN moves TEXT NOT NULL DEFAULT '';
ALTER TABLE ledger ADD COLUMN told TEXT;
CREATE TABLE head(one INTEGER PRIMARY KEY CHECK(one = 1), id INTEGER NOT NULL, digest TEXT NOT NULL);
INSERT INTO head SELECT 1, id, digest FROM ledger ORDER BY id DESC LIMIT 1;
CREATE INDEX changes_by_after ON changes(after_package);
CREATE TABLE put_away(txn INTEGER PRIMARY KEY, times BLOB NOT NULL);
)sql",
                                                              R"sql(
-- The plans of new entries are records (plan_record.h), which older programs can't read.
)sql",
                                                              R"sql(
CREATE INDEX packages_shelved ON packages(name, version) WHERE shelved = 1;
)sql",
                                                              R"sql(
-- packages that ask for more than files; what their programs made, and what was run
ALTER TABLE packages ADD COLUMN acts INTEGER NOT NULL DEFAULT 0;
CREATE INDEX packages_acting ON packages(name) WHERE state = 'installed' AND acts = 1;
CREATE TABLE generated(path TEXT PRIMARY KEY, package TEXT NOT NULL, value TEXT NOT NULL) WITHOUT ROWID;
CREATE INDEX generated_by ON generated(package);
CREATE TABLE generated_changes(
  txn INTEGER NOT NULL, path TEXT NOT NULL, before TEXT, after TEXT, PRIMARY KEY(txn, path)) WITHOUT ROWID;
CREATE TABLE runs(
  txn INTEGER NOT NULL, seq INTEGER NOT NULL, package TEXT NOT NULL, program TEXT NOT NULL, occasion TEXT NOT NULL,
  milliseconds INTEGER NOT NULL, ended TEXT NOT NULL, output TEXT NOT NULL, PRIMARY KEY(txn, seq)) WITHOUT ROWID;
CREATE INDEX runs_by ON runs(package, program);
CREATE TABLE lines(
  txn INTEGER NOT NULL, seq INTEGER NOT NULL, path TEXT NOT NULL, what INTEGER NOT NULL, line TEXT NOT NULL,
  member TEXT NOT NULL, PRIMARY KEY(txn, seq)) WITHOUT ROWID;
CREATE TABLE picks(path TEXT PRIMARY KEY, file TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE pick_changes(
  txn INTEGER NOT NULL, path TEXT NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL,
  PRIMARY KEY(txn, path)) WITHOUT ROWID;
)sql",
                                                              R"sql(
-- what the administrator answered to questions of packages; no secrets
CREATE TABLE answers(
  package TEXT NOT NULL, key TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY(package, key)) WITHOUT ROWID;
)sql",
                                                              R"sql(
-- the channel that a package follows instead of those of its repository
CREATE TABLE follows(name TEXT PRIMARY KEY, channel TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE follow_changes(
  txn INTEGER NOT NULL, name TEXT NOT NULL, before TEXT NOT NULL, after TEXT NOT NULL,
  PRIMARY KEY(txn, name)) WITHOUT ROWID;
)sql",
                                                              R"sql(
-- whether a package has configuration, so that the lists of those that have none are not read; NULL: it was not asked
ALTER TABLE packages ADD COLUMN configs INTEGER;
CREATE INDEX packages_left ON packages(id) WHERE state = 'attic' AND shelved = 0 AND configs IS NOT 0;
)sql"};

/// What the fourth step does besides, after its SQL: files and directories, which had a row each, become lists and the
/// index of paths (files.cpp).
inline constexpr int kListsFrom = 4;
/// After this one it is asked of each list whether it has configuration.
inline constexpr int kConfigsFrom = 13;

}  // namespace hambrel::state
