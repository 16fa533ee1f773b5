// What the switch and its recovery share: where things lie, and what brings them to the disk.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "os/neighbours.h"
#include "txn/environment.h"
#include "txn/staging_homes.h"

namespace hambrel::txn {

/// Where a move finds or puts what is not at its path, relative to the root. `directory`: of the transaction.
/// Of these moves, those of attributes too, or not.
std::set<std::string> homes_of(const std::vector<state::Move>& moves);
std::set<std::string> homes_with_files(const std::vector<state::Move>& moves);
std::string place_of(const state::Move& move, const std::string& directory);

/// Brings every file system that the moves are about, and that of the state, to the disk.
void sync(os::FileSystem& root, const std::vector<state::Move>& moves);

/// Owner, where this process may set it, and mode, of the directory with this inode number and no other.
void give(os::Directory& parent, std::string_view name, std::uint64_t inode,
          const state::DirectoryAttributes& attributes, bool set_owner);

/// Throws Error{Io} where a file system that the transaction has its files on is not mounted: it looks like one on
/// which nothing was done.
void require_homes(os::FileReader& root, const state::Journal& journal);

}  // namespace hambrel::txn
