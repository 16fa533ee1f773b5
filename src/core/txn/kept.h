// What the attic keeps of files that transactions replaced or removed, found by path and content.
//
// The attic knows places, not versions: a file of a version that left may lie in the attic of the transaction in which
// it left, in that of a later one that replaced it when it had been left untouched before, or where an undo put it.
// So all places are tried that any transaction since moved this path to, and only the digest of what lies there
// decides.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/file_entry.h"
#include "os/file_system.h"
#include "state/state.h"

namespace hambrel::txn {

class Kept {
 public:
  /// What transactions after `since` put into the attic.
  Kept(os::FileReader& root, const state::State& state, state::TxnId since);

  /// Where a regular file with the path, size and digest of `entry` lies in the attic of `home`, relative to the root.
  std::optional<std::string> find(const FileEntry& entry, std::string_view home) const;

  /// Everywhere that a file of this path and size lies, whatever its content: without reading it.
  std::vector<std::string> places_like(const FileEntry& entry, std::string_view home) const;

  /// Looks for all of these, by several threads; find() then knows them.
  void look_for(const std::vector<std::pair<FileEntry, std::string>>& entries_and_homes, unsigned workers);

  /// The same for configuration, which may have been edited: what stood at the path after `since`, whatever its
  /// content, if a transaction put it away; else what find() tells. Where moves are not known any more that came before
  /// that, another version's pristine content is not taken for it.
  std::optional<std::string> find_configuration(const FileEntry& entry, std::string_view home) const;

  /// The first thing that happened since to a path: what stood there before is what the move put away, or nothing.
  struct First {
    state::MoveKind kind;
    SharedText home;
    std::uint64_t inode;  // of what was put away
  };
  /// By path, those that lie in `directory`; what lies below a path that is among them is not.
  std::map<std::string, First> first_moves_in(std::string_view directory) const;
  /// Where a regular file with this content lies that was put away from the path, whatever its size and version.
  std::optional<std::string> find_content(const std::string& path, const Digest& digest) const;
  /// Where something that was put away from a path lies, by its inode number.
  std::optional<std::string> place_of(const std::string& path, std::uint64_t inode) const;

 private:
  struct Place {
    SharedText home, attic, place;
    std::uint64_t inode;  // of what was put away, 0 for nothing
    state::MoveKind kind;
    bool certain;  // that no transaction before it, whose moves are not known any more, had moved it

    std::string path() const;  // relative to the root
  };
  std::optional<std::string> search(const FileEntry& entry, std::string_view home) const;
  /// Calls with the places that are like it, until one is it.
  void visit(const FileEntry& entry, std::string_view home, const std::function<bool(const std::string&)>& is_it) const;

  os::FileReader& root_;
  struct Known {
    Digest digest;
    std::string home;
    std::optional<std::string> place;
  };
  std::map<std::string, Known, std::less<>> known_;               // by path: what look_for() found
  std::map<SharedText, std::vector<Place>, std::less<>> places_;  // by the path that was moved, oldest first
};

/// Where the files of a transaction lie by now: its own attic, or that of what took it back.
std::string attic_of(const state::State& state, state::TxnId id);

}  // namespace hambrel::txn
