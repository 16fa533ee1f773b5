// A part of a repository as one of its own, complete: what was asked for with all that it requires. For a medium that
// goes to a machine without a network.
//
// Invariant: the target is a new directory, an empty one, or one that was made so before (.publish/subset).
#pragma once

#include <string>
#include <vector>

#include "base/observer.h"
#include "model/offer.h"
#include "os/file_system.h"

namespace hambrel::operations {

struct Subset {
  std::size_t packages = 0;  // package versions
  ByteCount bytes = 0;       // of their files
  std::size_t copied = 0;    // that were not there yet
};

/// Copies package files of what is served in `from` to `to`, of several repositories the first that has a file, and
/// writes its repository.toml; what an earlier subset had and this one has not goes. Nothing is published yet. `arch`:
/// of the machine that it is for. Throws Error{Refused} where the specs can't be met, or the target is something else.
Subset copy_subset(const std::vector<os::FileSystem*>& from, os::FileSystem& to, const std::vector<std::string>& specs,
                   const std::string& arch, Observer& observer);

}  // namespace hambrel::operations
