#include "repo/download.h"

#include <fmt/format.h>

#include "repo/download_queue.h"

namespace hambrel::repo {

std::string cache_path(const Package& package) {
  return fmt::format("{}/{}/{}.{}.hambrel", kPackageCache, package.name, package.version.text(), package.arch);
}

bool in_cache(os::FileReader& root, const Package& package, const Offer& offer) {
  const auto info = root.stat(cache_path(package));
  return info && info->type == os::FileType::Regular && info->size == offer.size;
}

std::vector<std::string> drop_damaged(os::FileSystem& root, const std::vector<PackageToFetch>& wanted) {
  std::vector<std::string> dropped;
  for (const PackageToFetch& one : wanted) {
    const std::string path = cache_path(one.package);
    if (!in_cache(root, one.package, one.offer) || root.digest(path) == one.offer.digest) continue;
    root.remove_file(path);
    dropped.push_back(root.shown(path));
  }
  return dropped;
}

ByteCount download(os::FileSystem& root, Network& network, const std::vector<PackageToFetch>& wanted,
                   const std::vector<settings::Repository>& repositories, Observer& observer, bool sync) {
  std::vector<PackageToFetch> all = wanted;
  for (PackageToFetch& one : all) one.is_to_last = sync;
  const ByteCount bytes = DownloadQueue(root, network, all, repositories).settle(observer);
  // the rest of it, their names, and what was fetched before
  if (sync && root.stat(kPackageCache)) root.sync_all(kPackageCache);
  return bytes;
}

}  // namespace hambrel::repo
