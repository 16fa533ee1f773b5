#include "txn/moving.h"

#include <fmt/format.h>

#include <set>

#include "base/assert.h"
#include "base/error.h"

namespace hambrel::txn {

using state::Move;
using state::MoveKind;

std::string place_of(const Move& move, const std::string& directory) {
  HAMBREL_ASSERT(!directory.empty(), "a transaction has a directory of its own");
  return fmt::format("{}/{}/{}", move.home, directory, move.place);
}

namespace {

std::set<std::string> homes_among(const std::vector<Move>& moves, bool with_attributes) {
  std::set<std::string> homes;
  std::string_view last;
  for (const Move& move : moves) {
    if (move.home == last || (move.kind == MoveKind::Attributes && !with_attributes)) continue;
    last = move.home;
    homes.emplace(last);
  }
  return homes;
}

}  // namespace

std::set<std::string> homes_of(const std::vector<Move>& moves) { return homes_among(moves, true); }
std::set<std::string> homes_with_files(const std::vector<Move>& moves) { return homes_among(moves, false); }

void sync(os::FileSystem& root, const std::vector<Move>& moves) {
  std::set<std::string> homes = homes_of(moves);
  homes.insert(kHome);
  for (const std::string& home : homes) root.sync_all(existing_directory(root, home));
}

void give(os::Directory& parent, std::string_view name, std::uint64_t inode,
          const state::DirectoryAttributes& attributes, bool set_owner) {
  HAMBREL_ASSERT(inode != 0, "it is known which directory is meant");
  const auto owner = set_owner ? std::optional(os::Owner{attributes.uid, attributes.gid}) : std::nullopt;
  parent.set_attributes(name, inode, owner, attributes.mode);
}

void require_homes(os::FileReader& root, const state::Journal& journal) {
  for (const std::string& home : homes_with_files(journal.moves))
    if (const std::string own = os::join_path(home, journal.directory); !root.stat(own))
      throw Error(ErrorCode::Io, "is missing, but the transaction has files in it", root.shown(own),
                  "mount the file system it is on");
}

}  // namespace hambrel::txn
