// One changing run at a time for one root.
//
// Invariant: while a Lock lives, no other process holds one on the same root. The kernel drops the lock with the
// process, so a killed run leaves none behind; the text in the file is only for the message of the next one.
// Whoever can open the file could hold the lock for ever: it lies in a directory that only its owner enters.
#pragma once

#include <memory>
#include <string>

#include "os/file_system.h"

namespace hambrel::os {

class Lock {
 public:
  virtual ~Lock() = default;
};

/// Takes the lock file `path`; it is created, with its directory. Waits up to `wait_seconds` for another holder; then
/// throws Error{Locked} that names the holder: its command, process id, user and since when.
/// `describe` is what the next one will be told of this run, on one line; empty: nothing, and nothing is written.
[[nodiscard]] std::unique_ptr<Lock> take_lock(FileSystem& root, const std::string& path, int wait_seconds,
                                              const std::string& describe);

/// The lock that programs take who edit passwd and its like (lckpwdf(3)), where that file is there. Waits so long, then
/// throws Error{Locked}. Nothing if there is none.
[[nodiscard]] std::unique_ptr<Lock> take_account_lock(FileSystem& root, int wait_seconds);

}  // namespace hambrel::os
