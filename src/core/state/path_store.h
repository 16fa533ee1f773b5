// Who owns a path: the index of the paths of installed packages.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <set>
#include <string_view>
#include <vector>

#include "state/records.h"
#include "state/store.h"

namespace hambrel::state {

class PathStore : protected Store {
 public:
  /// Installed packages' entries with this path (several for shared directories).
  std::vector<OwnedFile> owners_of(std::string_view path) const;
  /// One of them that is not among the rows in `but`; all are alike in what they may share, so one tells as much.
  std::optional<OwnedFile> owner_of(std::string_view path, const std::set<std::int64_t>& but) const;
  /// By number in its list: those of its files that other installed packages may have, too. Some that no other has can
  /// be among them, never is one missing.
  std::vector<std::size_t> shared_files_of(std::int64_t package_row) const;
  /// Those of the paths of these installed packages that no other one has: asked of all at once. Some can be missing,
  /// never is one too many.
  class OfOneAlone {
   public:
    bool contains(std::string_view path) const;

   private:
    friend class PathStore;
    void make_room(std::size_t count);
    void add(std::uint64_t hash, std::string_view path);
    /// Open addressing with linear probing (Knuth, The Art of Computer Programming, volume 3, 6.4, algorithm L).
    struct Slot {
      const char* text = nullptr;  // null: free
      std::uint32_t size = 0;
      std::uint32_t tag = 0;  // the upper half of the hash
    };
    std::vector<Slot> slots_;                             // a power of two, at most half of them taken
    std::vector<std::shared_ptr<const FileList>> lists_;  // which the paths are part of
  };
  OfOneAlone paths_of_one(const std::set<std::int64_t>& package_rows) const;
  /// May more than one installed package have this path? False is certain.
  bool may_be_shared(std::string_view path) const;
  /// May an installed package have this path? Answered from the index alone; false is certain.
  bool may_be_owned(std::string_view path) const;

 protected:
  using Store::Store;
  friend class State;
};

}  // namespace hambrel::state
