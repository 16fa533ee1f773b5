// Which of the available packages has a path. What the indexes of paths need is fetched when it is first
// asked for, and kept in the index cache beside the index that it belongs to.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/observer.h"
#include "os/file_system.h"
#include "repo/path_index.h"
#include "repo/transfer.h"
#include "settings/settings.h"

namespace hambrel::repo {

struct PathSearch {
  std::vector<PathHolder> holders;
  std::vector<std::string> unsearched;  // "base: why": repositories of which nobody can tell
};

/// Asks the enabled repositories that were refreshed. `store`: where the cache may be written; nullptr: nothing is
/// kept. Throws Error{Network} or Error{Untrusted} for what can't be fetched or is not what the repository promised.
PathSearch search_paths(os::FileReader& root, os::FileSystem* store, Network& network,
                        const std::vector<settings::Repository>& repositories, std::string_view path,
                        Observer& observer);

}  // namespace hambrel::repo
