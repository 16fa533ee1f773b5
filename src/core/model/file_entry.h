// One file, directory or link of a package: what it must be, wherever it is described (package file, state, plan).
#pragma once

#include <cstdint>
#include <map>
#include <string>

#include "base/digest.h"

namespace hambrel {

enum class EntryType { File, Directory, Symlink, HardLink };  // stored in databases: never renumber

struct FileEntry {
  std::string path;  // relative to the root, see path_problem()
  EntryType type = EntryType::File;
  std::uint32_t mode = 0;  // permission bits, 07777
  std::string user = "root", group = "root";
  std::int64_t mtime = 0;                         // seconds since 1970
  std::uint64_t size = 0;                         // bytes of a regular file's content
  Digest digest;                                  // of a regular file's content
  std::string target;                             // of a link
  std::map<std::string, std::string> attributes;  // extended attributes, raw values
  bool config = false;
};

}  // namespace hambrel
