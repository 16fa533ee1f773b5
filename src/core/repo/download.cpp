#include "repo/download.h"

#include <fmt/format.h>

#include <algorithm>
#include <memory>

#include "repo/index.h"
#include "repo/transfer.h"

namespace hambrel::repo {

std::string cache_path(const Package& package) {
  return fmt::format("{}/{}/{}.{}.hambrel", kPackageCache, package.name, package.version.text(), package.arch);
}

bool in_cache(os::FileReader& root, const Package& package, const Offer& offer) {
  const auto info = root.stat(cache_path(package));
  return info && info->type == os::FileType::Regular && info->size == offer.size;
}

namespace {

/// One file on its way into the cache.
struct Arriving {
  const Wanted* wanted;
  std::string path, part;
  std::unique_ptr<os::WritableFile> file;
  Sha256 digest;
  std::uint64_t size = 0;

  Arriving(os::FileSystem& root, const Wanted& what)
      : wanted(&what), path(cache_path(what.package)), part(path + ".part") {
    root.make_directories(os::parent_of(path));
    if (root.stat(part)) root.remove_file(part);
    file = root.create(part, 0644);
  }
  void take(std::string_view data) {
    file->write(data);
    digest.update(data);
    size += data.size();
  }
  void finish(os::FileSystem& root, const std::string& url) {
    if (size != wanted->offer.size || digest.finish() != wanted->offer.digest) {
      root.remove_file(part);
      throw Error(ErrorCode::Untrusted,
                  fmt::format("{} is not the file that {} names (its digest differs)", wanted->package.title(),
                              wanted->offer.repository),
                  url,
                  "run `hambrel refresh` and try again; if it stays, the repository or its mirror was tampered with");
    }
    file->sync();
    file.reset();
    root.rename(part, path);
  }
};

std::string url_of(const Wanted& wanted, const std::vector<Repository>& repositories) {
  for (const Repository& one : repositories)
    if (one.name == wanted.offer.repository) return one.url + "/" + package_url_path(wanted.package);
  throw Error(ErrorCode::NotFound, fmt::format("the repository {} is gone", wanted.offer.repository),
              wanted.package.title(), "run `hambrel refresh`");
}

}  // namespace

std::vector<std::string> drop_damaged(os::FileSystem& root, const std::vector<Wanted>& wanted) {
  std::vector<std::string> dropped;
  for (const Wanted& one : wanted) {
    const std::string path = cache_path(one.package);
    if (!in_cache(root, one.package, one.offer) || root.digest(path) == one.offer.digest) continue;
    root.remove_file(path);
    dropped.push_back(root.shown(path));
  }
  return dropped;
}

ByteCount download(os::FileSystem& root, const std::vector<Wanted>& wanted, const std::vector<Repository>& repositories,
                   unsigned parallel, Observer& observer) {
  std::vector<std::unique_ptr<Arriving>> arriving;
  std::vector<Request> requests;
  ByteCount expected = 0;
  for (const Wanted& one : wanted) {
    if (in_cache(root, one.package, one.offer)) continue;
    arriving.push_back(std::make_unique<Arriving>(root, one));
    Arriving* const file = arriving.back().get();
    requests.push_back(
        {url_of(one, repositories), one.offer.size, {}, [file](std::string_view data) { file->take(data); }, {}});
    expected += one.offer.size;
  }
  if (requests.empty()) return 0;
  observer.begin("fetching packages", expected, Observer::Unit::Bytes);
  fetch_all(requests, parallel, observer);
  observer.end();
  std::optional<Error> first;
  ByteCount fetched = 0;
  for (std::size_t i = 0; i < requests.size(); ++i) {
    try {
      if (requests[i].problem) {
        arriving[i]->file.reset();
        root.remove_file(arriving[i]->part);
        throw *requests[i].problem;
      }
      arriving[i]->finish(root, requests[i].url);
      fetched += arriving[i]->size;
    } catch (const Error& problem) {
      if (!first) first = problem;
    }
  }
  if (first) throw *first;
  return fetched;
}

}  // namespace hambrel::repo
