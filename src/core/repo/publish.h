// Making a repository from a directory: DIR/packages/NAME/VERSION.ARCH.hambrel, optionally DIR/repository.toml.
//
// Readers of the repository never see half of it: content comes first, the timestamp that names it last, each written
// beside its place and renamed. An index number is never used twice for different content.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/observer.h"
#include "os/file_system.h"

namespace hambrel::repo {

struct Published {
  std::uint64_t version = 0;  // of the index
  bool changed = false;
  std::size_t packages = 0;
  std::vector<std::string> channels;
};

/// `now` in seconds. Throws Error naming the file for a package that is damaged or does not lie where it belongs;
/// nothing is published then.
Published publish(os::FileSystem& directory, std::int64_t now, Observer& observer);

}  // namespace hambrel::repo
