// Owner names to numbers, as the root's own etc/passwd and etc/group have them.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>

#include "model/file_entry.h"
#include "os/file_system.h"

namespace hambrel::txn {

class Owners {
 public:
  using Names = std::map<std::string, std::uint32_t>;
  /// `users`, `groups`: those that a change makes, which count besides.
  explicit Owners(os::FileReader& root, const Names& users = {}, const Names& groups = {});
  struct Numbers {
    std::uint32_t uid = 0, gid = 0;
  };
  /// root is 0 in every root; a name of digits is its number. Throws Error{Refused} for a name the root does not know.
  Numbers of(const FileEntry& entry, const std::string& package) const;
  /// Nothing for a name that the root does not know.
  std::optional<Numbers> find(const FileEntry& entry) const;

 private:
  Names users_, groups_;
};

}  // namespace hambrel::txn
