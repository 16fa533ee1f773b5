// Can a change of the tree be carried out? Asked before anything is staged: room, mounts, immutable files.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/error.h"
#include "base/parallel.h"
#include "os/neighbours.h"
#include "txn/disk_facts.h"
#include "txn/tree_change.h"

namespace hambrel::txn {

using os::FileInfo;
using os::FileType;
using state::MoveKind;

namespace {

// left free beside what is staged: new blocks of directories, and where the state is, the journal
constexpr ByteCount kMargin = 4ULL << 20, kForeignMargin = 256ULL << 10;
constexpr double kMiB = 1 << 20;

/// Something that no rename can pass by.
void require_movable(os::FileReader& root, const PlannedMove& move, const FileInfo& directory,
                     const std::optional<FileInfo>& self) {
  const auto refuse = [&](const std::string& what, std::string_view path, const char* hint) {
    throw Error(ErrorCode::Refused, what, root.shown(path), hint);
  };
  const bool whole = move.kind != MoveKind::Attributes;
  if (whole && self && self->mount != directory.mount)
    refuse("it is a mount point", move.path, "unmount it for the change, or leave out the package");
  if (whole && self && self->type == FileType::Directory && !root.can_rename_directory(move.path, *self, kHome))
    refuse("is a directory in a lower layer of an overlay file system, which cannot rename it", move.path,
           "mount the overlay with redirect_dir=on for the change, or leave out the package");
  if (self && self->fixed)
    refuse("is immutable or append-only", move.path,
           "remove the attribute (chattr -ia) for the change, or leave out the package");
  if (whole && directory.fixed)
    refuse("is an immutable or append-only directory", os::parent_of(move.path),
           "remove the attribute (chattr -ia) for the change, or leave out the package");
}

/// The nearest directory that exists at or above a path. Most stand where they are said to stand.
FileInfo existing(os::FileReader& root, os::Looker& looker, std::string_view path) {
  if (const auto info = looker.stat(path); !path.empty() && info && info->type == FileType::Directory) return *info;
  return root.stat_followed_present(existing_directory(root, path));
}

void require_room(os::FileReader& root, std::string_view home, ByteCount bytes, std::uint64_t count) {
  const std::string at = existing_directory(root, home);
  const os::Space space = root.space(at);
  const ByteCount needed = bytes + 4096 * count + (home == kHome ? kMargin : kForeignMargin);
  if (needed > space.free_bytes)
    throw Error(ErrorCode::Io,
                fmt::format("not enough space: {:.1f} MiB needed, {:.1f} MiB free", static_cast<double>(needed) / kMiB,
                            static_cast<double>(space.free_bytes) / kMiB),
                root.shown(at), "free some space on this file system; nothing was changed");
  if (space.total_inodes > 0 && count > space.free_inodes)
    throw Error(ErrorCode::Io, fmt::format("not enough inodes: {} needed, {} free", count, space.free_inodes),
                root.shown(at), "remove some small files; nothing was changed");
}

}  // namespace

/// A link that others than root can change leads wherever they like by the time of the change.
void require_way(os::FileReader& root, std::string_view path) {
  const auto link = root.strange_link(path);
  if (!link) return;
  throw Error(ErrorCode::Refused,
              fmt::format("this symbolic link is on the way to {}; other users can change it, so it is not followed",
                          root.shown(path)),
              *link, "look at it with ls -l; remove it, or make it as root in a directory that only root writes to");
}

void require_feasible(os::FileReader& root, const TreeChange& change, unsigned workers) {
  std::map<SharedText, std::pair<ByteCount, std::uint64_t>> needs;  // by home: bytes, inodes
  for (const Put& put : change.puts) {
    auto& [bytes, count] = needs[put.home()];
    if (put.rest().kept.empty() || put.entry.config()) bytes += put.entry.size();  // the rest is linked
    ++count;
  }
  for (const Pristine& one : change.pristine) {
    auto& [bytes, count] = needs[kHome];
    bytes += one.entry.size;
    ++count;
  }
  if (change.fetched.bytes > 0) {
    const auto mount = [&](std::string_view path) {
      return root.stat_followed_present(existing_directory(root, path)).mount;
    };
    const auto there = std::find_if(needs.begin(), needs.end(),
                                    [&](const auto& one) { return mount(one.first) == mount(change.fetched.into); });
    (there == needs.end() ? needs[change.fetched.into] : there->second).first += change.fetched.bytes;
  }
  for (const auto& [home, need] : needs) require_room(root, home, need.first, need.second);
  in_portions(change.moves.size(), workers, kFewLooks, [&](std::size_t first, std::size_t last) {
    std::map<std::string_view, FileInfo> directories;
    os::Looker looker(root);
    for (std::size_t i = first; i < last; ++i) {
      const PlannedMove& move = change.moves[i];
      const auto parent = os::parent_of(move.path);
      auto known = directories.find(parent);
      if (known == directories.end()) {
        require_way(root, move.path);
        known = directories.emplace(parent, existing(root, looker, parent)).first;
      }
      const bool to_nowhere = move.kind == MoveKind::Place;  // nothing stood there a moment ago
      require_movable(root, move, known->second, to_nowhere ? std::nullopt : looker.stat(move.path));
    }
  });
}

}  // namespace hambrel::txn
