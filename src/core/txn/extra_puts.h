// What a change stages beside the files of packages: files of accounts, links to candidates.
#pragma once

#include <string>
#include <string_view>

#include "txn/staging_homes.h"
#include "txn/tree_change.h"

namespace hambrel::txn {

class ExtraPuts {
 public:
  ExtraPuts(os::FileReader& root, TreeChange& change) : root_(root), homes_(root), change_(change) {}

  /// What the change puts at a path itself; nullptr: nothing, or a directory.
  Put* at(std::string_view path);
  /// Puts something there, with the directories on the way that are not there; what stands there goes to the attic.
  /// The result stands until the next call.
  Put& add(const FileEntry& entry);
  /// What stands there goes to the attic, if that is not planned yet.
  void remove(const std::string& path);
  /// Directories that were added on the way to something.
  const std::vector<std::string>& made() const { return made_; }

 private:
  void add_directories(std::string_view path);
  bool comes_with_directory(std::string_view path) const;
  const Put* directory_at(std::string_view path) const;
  Put& insert(Put put);

  os::FileReader& root_;
  StagingHomes homes_;
  TreeChange& change_;
  std::vector<std::string> made_;
};

}  // namespace hambrel::txn
