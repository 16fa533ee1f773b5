#include "cli/package_files.h"

#include <fmt/format.h>

#include "base/text.h"
#include "repo/download.h"
#include "repo/index.h"
#include "repo/transfer.h"

namespace hambrel::cli {

txn::PackageFile PackageFiles::open(const state::StatePackage& package) {
  if (auto* const reader = in_cache(package)) return {reader, true};
  return {in_repository(package), false};
}

archive::PackageReader* PackageFiles::in_cache(const state::StatePackage& package) {
  const std::string path = repo::cache_path(package.package);
  os::FileSystem& root = session_.root();
  if (!root.stat(path)) return nullptr;
  try {
    if (root.digest(path) == package.digest)
      return keep(std::make_unique<archive::PackageReader>(os::open_each_time(root, path), root.shown(path)));
  } catch (const Error& problem) {
    session_.progress().note(fmt::format("{}: {}", problem.where(), problem.problem()));
  }
  return nullptr;
}

archive::PackageReader* PackageFiles::in_repository(const state::StatePackage& package) {
  const Universe& universe = session_.universe();
  for (const PackageId id : universe.versions_of(package.package.name)) {
    if (universe.package(id).version != package.package.version || universe.architecture(id) != package.package.arch)
      continue;
    for (const Offer& offer : universe[id].offers)
      for (const repo::Repository& one : session_.repositories()) {
        if (one.name != offer.repository || offer.digest != package.digest) continue;
        const std::string url = one.url + "/" + repo::package_url_path(package.package);
        try {
          auto reader = std::make_unique<archive::PackageReader>(repo::open_url(url, offer.size), shown_url(url));
          if (reader->footer().table_digest == offer.table_digest) return keep(std::move(reader));
          session_.progress().note(shown_url(url) + ": is not the package that the index names");
        } catch (const Error& problem) {
          session_.progress().note(fmt::format("{}: {}", problem.where(), problem.problem()));
        }
      }
  }
  return nullptr;
}

}  // namespace hambrel::cli
