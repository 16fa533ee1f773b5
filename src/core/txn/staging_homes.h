// StagingHomes: where a transaction keeps its directories, one on each file system that it changes.
//
// A rename can't leave a mount, so what is staged, and what becomes the attic, lies on the mount of its destination: in
// /var/lib/hambrel for the file system which that is on, in MOUNT/.hambrel for every other. In each home a transaction
// has stage/ID and later attic/ID.
#pragma once

#include <cstdint>
#include <map>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "base/shared_text.h"
#include "base/text_map.h"
#include "os/file_system.h"
#include "os/neighbours.h"

namespace hambrel::txn {

inline constexpr const char* kHome = "var/lib/hambrel";
inline constexpr const char* kForeignHome = ".hambrel";  // at the top of any other mount

class StagingHomes {
 public:
  explicit StagingHomes(os::FileReader& root) : root_(root) {}
  /// What is known of directories, for others that ask for the same ones.
  os::DirectoryFacts& directories() { return directories_; }

  /// The home for what is called `path`, whether its directory exists yet or not.
  const SharedText& of(std::string_view path);
  /// Writes down, durably, that a transaction is going to use these homes. Before they are made.
  static void remember(os::FileSystem& root, const std::set<std::string>& homes);
  /// Every home that stands: kHome, and those of other mounts that were written down. No other mount is looked at: a
  /// mount may be a stranger's, or hang.
  static std::vector<std::string> all(os::FileReader& root);
  /// Where other file systems of the system are mounted: those that packages ever had files on.
  static std::vector<std::string> tops(os::FileReader& root);

 private:
  const SharedText& of_directory(std::string_view directory);

  os::FileReader& root_;
  os::DirectoryFacts directories_{root_};
  TextMap<SharedText> by_directory_;
  std::map<std::uint64_t, SharedText> by_mount_;
};

/// The nearest directory that exists at or above a path.
std::string existing_directory(os::FileReader& root, std::string_view path);

}  // namespace hambrel::txn
