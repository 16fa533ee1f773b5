// The package files in the cache of a root: what lies there, and what is beyond the limits.
//
// Nothing depends on the cache but going back to versions that neither the attic nor a repository has.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "model/package.h"
#include "os/file_system.h"
#include "settings/settings.h"

namespace hambrel::repo {

struct CachedFile {
  std::string path;                 // relative to the root
  std::string name, version, arch;  // empty for what nobody knows
  bool rest = false;                // of a transfer that broke off, which the next one goes on from; or nobody's
  ByteCount size = 0;
  std::int64_t time = 0;  // when it was fetched, seconds since 1970
};

/// All of them, by name, then by version, newest first.
std::vector<CachedFile> cached_files(os::FileReader& root);

/// What may stay; nothing: no such limit.
struct CacheLimits {
  std::optional<std::uint64_t> versions;  // of each name and architecture, the newest
  std::optional<std::uint64_t> days;
  std::optional<ByteCount> bytes;  // the oldest go first
};
CacheLimits cache_limits_of(const settings::Settings& settings);

/// Those that are beyond the limits or that `unwanted` names, in the order of cached_files(). The rest of a transfer is
/// always among them. `now`: seconds since 1970.
std::vector<CachedFile> over_limits(const CacheLimits& limits, const std::vector<CachedFile>& files, std::int64_t now,
                                    const std::function<bool(const CachedFile&)>& unwanted = {});

/// Removes them, and directories that are empty then. Returns the bytes that are free.
ByteCount drop_cached(os::FileSystem& root, const std::vector<CachedFile>& files);

}  // namespace hambrel::repo
