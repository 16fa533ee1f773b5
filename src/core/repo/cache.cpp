#include "repo/cache.h"

#include <algorithm>
#include <map>
#include <set>

#include "base/assert.h"
#include "model/version.h"
#include "repo/download.h"

namespace hambrel::repo {

namespace {

/// NAME/VERSION.ARCH.hambrel, or that with ".DIGEST.part" after it.
void read_name(CachedFile& file, const std::string& directory, std::string_view name) {
  constexpr std::string_view kEnding = ".hambrel", kPart = ".part";
  file.rest = true;
  const bool part = name.ends_with(kPart);
  if (part) {
    name.remove_suffix(kPart.size());
    name = name.substr(0, name.rfind('.'));
  }
  if (!name.ends_with(kEnding)) return;
  name.remove_suffix(kEnding.size());
  const auto dot = name.rfind('.');
  if (dot == std::string_view::npos) return;
  file.rest = part;
  file.name = directory;
  file.version = name.substr(0, dot);
  file.arch = name.substr(dot + 1);
}

std::vector<std::string> names_in(os::DirectoryReader& directory) {
  std::vector<std::string> names;
  for (os::DirectoryReader::Entry& one : directory.entries()) names.push_back(std::move(one.name));
  std::sort(names.begin(), names.end());
  return names;
}

}  // namespace

std::vector<CachedFile> cached_files(os::FileReader& root) {
  std::vector<CachedFile> files;
  const auto cache = root.look_into(kPackageCache);
  if (!cache) return files;
  for (const std::string& directory : names_in(*cache)) {
    const auto opened = cache->look_into(directory);
    if (!opened) continue;
    const std::string at = os::join_path(kPackageCache, directory);
    for (const std::string& name : names_in(*opened)) {
      const auto info = opened->stat(name);
      if (!info || info->type != os::FileType::Regular) continue;
      CachedFile file;
      file.path = os::join_path(at, name);
      read_name(file, directory, name);
      file.size = info->size;
      file.time = info->mtime_seconds;
      files.push_back(std::move(file));
    }
  }
  std::stable_sort(files.begin(), files.end(), [](const CachedFile& a, const CachedFile& b) {
    if (a.name != b.name) return a.name < b.name;
    return compare_versions(a.version, b.version) > 0;
  });
  return files;
}

CacheLimits cache_limits_of(const settings::Settings& settings) {
  const auto limit = [](std::uint64_t value) { return value == 0 ? std::nullopt : std::optional(value); };
  constexpr ByteCount kMebibyte = 1 << 20;
  return {limit(settings.cache_versions), limit(settings.cache_days), limit(settings.cache_mebibytes * kMebibyte)};
}

std::vector<CachedFile> over_limits(const CacheLimits& limits, const std::vector<CachedFile>& files, std::int64_t now,
                                    const std::function<bool(const CachedFile&)>& unwanted) {
  constexpr std::int64_t kDay = 24 * 60 * 60;
  std::set<const CachedFile*> gone;
  std::map<std::pair<std::string, std::string>, std::uint64_t> versions;  // by name and architecture
  ByteCount bytes = 0;
  for (const CachedFile& one : files) {
    const bool too_many = limits.versions && !one.rest && ++versions[{one.name, one.arch}] > *limits.versions;
    const bool too_old = limits.days && (now - one.time) / kDay >= static_cast<std::int64_t>(*limits.days);
    if (one.rest || too_many || too_old || (unwanted && unwanted(one)))
      gone.insert(&one);
    else
      bytes += one.size;
  }
  if (limits.bytes && bytes > *limits.bytes) {
    std::vector<const CachedFile*> oldest;
    for (const CachedFile& one : files)
      if (!gone.contains(&one)) oldest.push_back(&one);
    std::stable_sort(oldest.begin(), oldest.end(), [](const auto* a, const auto* b) { return a->time < b->time; });
    for (const CachedFile* const one : oldest) {
      if (bytes <= *limits.bytes) break;
      bytes -= one->size;
      gone.insert(one);
    }
  }
  std::vector<CachedFile> result;
  for (const CachedFile& one : files)
    if (gone.contains(&one)) result.push_back(one);
  return result;
}

ByteCount drop_cached(os::FileSystem& root, const std::vector<CachedFile>& files) {
  ByteCount bytes = 0;
  for (const CachedFile& one : files) {
    HAMBREL_ASSERT(os::is_below(one.path, kPackageCache), "nothing goes but what is cached");
    root.remove_file(one.path);
    bytes += one.size;
    if (const std::string directory(os::parent_of(one.path)); root.list(directory).empty())
      root.remove_directory(directory);
  }
  return bytes;
}

}  // namespace hambrel::repo
