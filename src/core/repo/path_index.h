// The index of paths of a repository: which package versions contain a file. Published beside the index, fetched only
// when somebody asks for a path, and read in place: an answer costs one or two blocks, whatever the number of paths.
//
//   [path block]... [package block]... [skippable: directory, a frame] [skippable: footer]     docs/format.md
//
// Blocks are zstd frames. A path block holds paths ascending by bytes, each as what it shares with the one before
// (front coding: Witten, Moffat, Bell, Managing Gigabytes, 1999, section 4.1) and the numbers of the packages that
// bring it; a package block holds "NAME VERSION ARCH" lines, numbered over all blocks. Directories are left out.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "model/package.h"
#include "os/file_system.h"

namespace hambrel::repo {

/// One of those that bring a path.
struct PathHolder {
  std::string name, version, arch;
  friend bool operator==(const PathHolder&, const PathHolder&) = default;
};

class PathIndexWriter {
 public:
  /// A package and the paths of all that it brings but directories, in any order.
  void add(const Package& package, std::vector<std::string> paths);
  /// The whole file.
  std::string finish();

 private:
  std::vector<std::string> titles_;
  std::vector<std::string> coded_;  // the paths of each, front-coded: all of them would not fit into memory
};

class PathIndex {
 public:
  /// Reads footer and directory. Throws Error{Untrusted} for anything damaged, here and below; memory stays below
  /// 64 MiB, whatever the file says.
  PathIndex(std::unique_ptr<os::ReadableFile> file, std::string where);
  /// Who brings a path ("usr/bin/lampctl"), in the order of the index; none: nobody.
  std::vector<PathHolder> holders(std::string_view path);

 private:
  struct Block {
    std::uint64_t offset = 0, size = 0, plain_size = 0;  // bytes
    std::string first;                                   // its first path
  };
  std::string plain(const Block& block);
  PathHolder holder(std::uint64_t number);
  [[noreturn]] void damaged(const char* how) const;

  std::unique_ptr<os::ReadableFile> file_;
  std::string where_;
  std::vector<Block> paths_, packages_;
  std::uint64_t package_count_ = 0;
  std::uint64_t open_block_ = ~0ULL;  // of packages, whose lines are
  std::string open_packages_;
};

}  // namespace hambrel::repo
