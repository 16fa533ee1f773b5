// What the planning of a transaction asks the disk for.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/text_map.h"
#include "model/file_entry.h"
#include "model/file_list.h"
#include "os/file_system.h"
#include "os/neighbours.h"

namespace hambrel::txn {

inline constexpr std::size_t kFewLooks = 1000;     // at the disk, by the planning: not worth a thread
inline constexpr std::uint32_t kSetGroup = 02000;  // the set-group-id bit of a directory's mode

/// Does the disk still show a file as the state describes it, as far as that is to be had without reading it?
bool as_recorded(os::FileReader& root, os::Looker& looker, const FileEntry& entry);
bool as_recorded(os::FileReader& root, os::Looker& looker, const FileList& list, std::size_t number);

/// What a new file or directory takes over from the directory that it comes into, as if it had been made there.
struct Inheritance {
  std::optional<std::uint32_t> group{};
  std::string default_acl{};
};
class Inheritances {
 public:
  Inheritances(os::FileReader& root, os::DirectoryFacts& directories) : root_(root), directories_(directories) {}
  /// From a directory, or where it does not exist yet from the nearest one above it.
  const Inheritance& of(std::string_view directory);
  /// From a directory that was looked at; its last part is no link.
  static Inheritance from(os::FileReader& root, const os::FileInfo& directory, const std::string& path);
  void remember(std::string_view directory, Inheritance found) { known_.emplace(directory, std::move(found)); }

 private:
  os::FileReader& root_;
  os::DirectoryFacts& directories_;
  TextMap<Inheritance> known_;  // by directory
};

}  // namespace hambrel::txn
