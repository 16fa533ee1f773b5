// SQLite's files of one state, reached through os::FileSystem (https://www.sqlite.org/vfs.html).
//
// Invariants
//   V1 it opens, makes and removes the state's file and that file's own journal, and nothing else: no super-journal
//      that a crafted journal names, no file of temporary data, no log ahead of writing. Both are regular files with
//      one name; a link is never followed
//   V2 who looks changes nothing and takes no lock: what a crashed run left in the journal is taken back in memory, and
//      each read makes sure that the file is still what it was when the look began. Where it is not, the read fails and
//      moved() says so: the look is begun anew
//   V3 who changes takes no lock of SQLite's either: os::Lock keeps out all others, so that nobody who can read the
//   file
//      can keep a commit from ending
#pragma once

#include <memory>
#include <optional>
#include <string>

#include "base/error.h"
#include "os/file_system.h"

namespace hambrel::state {

class Vfs {
 public:
  /// For looking at the state `path`.
  Vfs(os::FileReader& root, std::string path);
  /// For changing it; it is made if it is not there.
  Vfs(os::FileSystem& root, std::string path);
  ~Vfs();
  Vfs(const Vfs&) = delete;
  Vfs& operator=(const Vfs&) = delete;

  /// Under which SQLite knows it, until it is gone.
  const std::string& name() const;
  /// The name of the database for SQLite.
  static constexpr const char* kDatabase = "state";
  /// Did a read find that somebody changed the state since the look at it began?
  bool moved() const;
  /// What failed below SQLite, if something did: it knows only numbers.
  const std::optional<Error>& problem() const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace hambrel::state
