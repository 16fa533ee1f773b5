#include "operations/supply.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "repo/download.h"
#include "repo/index.h"
#include "repo/transfer.h"

namespace hambrel::operations {

namespace {

/// Of a package that has just been fetched.
std::shared_ptr<const archive::Table> table_in_cache(Root& root, PackageId id) {
  const std::string path = repo::cache_path(root.universe().package(id));
  const archive::PackageReader reader(root.files().open(path), root.files().shown(path));
  if (reader.footer().table_digest != root.universe()[id].offers.front().table_digest)
    throw Error(ErrorCode::Untrusted, "is not the package that the index names", root.files().shown(path),
                "run `hambrel refresh`; if it stays, tell who keeps the repository");
  return reader.shared_table();
}

}  // namespace

std::map<PackageId, std::shared_ptr<const archive::Table>> tables_of(Root& root, const std::vector<PackageId>& ids,
                                                                     std::vector<PackageId>* damaged) {
  const Universe& universe = root.universe();
  std::map<PackageId, std::shared_ptr<const archive::Table>> tables;
  std::vector<PackageId> asked;
  std::vector<std::string> texts(ids.size());
  std::vector<repo::Request> requests;
  for (const PackageId id : ids) {
    const Package& package = universe.package(id);
    if (const auto* reader = root.file_reader(id)) {
      tables.emplace(id, reader->shared_table());
      continue;
    }
    if (const auto* const kept = root.kept(id)) {
      auto table = std::make_shared<archive::Table>();
      for (FileEntry& file : root.state()->files_of(kept->row)->entries())
        table->entries.push_back(archive::Entry{std::move(file)});
      tables.emplace(id, std::move(table));
      continue;
    }
    const Offer& offer = universe[id].offers.front();
    if (repo::in_cache(root.files(), package, offer)) {
      const std::string path = repo::cache_path(package);
      try {
        const archive::PackageReader reader(root.files().open(path), root.files().shown(path));
        if (reader.footer().table_digest == offer.table_digest) {
          tables.emplace(id, reader.shared_table());
          continue;
        }
      } catch (const Error& problem) {  // a cache is not a safe: what is damaged is fetched again
        root.observer().note(fmt::format("{}: {}; it is fetched again", problem.where(), problem.problem()));
        if (damaged != nullptr) damaged->push_back(id);
      }
    }
    const auto found = std::find_if(root.repositories().begin(), root.repositories().end(),
                                    [&](const auto& one) { return one.name == offer.repository; });
    if (found == root.repositories().end())
      throw Error(ErrorCode::NotFound, fmt::format("the repository {} is gone", offer.repository), package.title(),
                  "run `hambrel refresh`");
    std::string* const text = &texts[asked.size()];
    asked.push_back(id);
    repo::Request request;
    request.url = found->url + "/" + repo::package_url_path(package);
    request.limit = offer.table_size;
    request.range = std::pair(offer.table_offset, offer.table_size);
    request.sink = [text](std::string_view data) { *text += data; };
    request.pace = root.pace();
    request.only_range = true;
    requests.push_back(std::move(request));
  }
  Observer silent;
  repo::fetch_all(requests, root.settings().downloads, silent);
  std::vector<repo::PackageToFetch> whole;
  for (std::size_t i = 0; i < requests.size(); ++i)
    if (requests[i].no_ranges) whole.push_back({universe.package(asked[i]), universe[asked[i]].offers.front()});
  if (!whole.empty()) {
    root.observer().note(fmt::format(
        "{}: the server sends whole files only, so {} fetched before the plan is made", shown_url(requests.front().url),
        whole.size() == 1 ? "1 package is" : fmt::format("{} packages are", whole.size())));
    repo::download(root.files(), whole, root.repositories(), root.settings().downloads, root.observer());
  }
  for (std::size_t i = 0; i < requests.size(); ++i) {
    if (requests[i].no_ranges) {
      tables.emplace(asked[i], table_in_cache(root, asked[i]));
      continue;
    }
    if (requests[i].problem) throw *requests[i].problem;
    const Offer& offer = universe[asked[i]].offers.front();
    tables.emplace(asked[i],
                   std::make_shared<const archive::Table>(archive::read_table(
                       texts[i], {offer.table_offset, offer.table_size, offer.table_digest}, requests[i].url)));
  }
  return tables;
}

std::vector<FileEntry> files_of(Root& root, PackageId id) {
  const Candidate& one = root.universe()[id];
  if (one.installed && root.file_reader(id) == nullptr) return root.state()->files_of(one.installed->row)->entries();
  const auto table = tables_of(root, {id}).at(id);
  return {table->entries.begin(), table->entries.end()};
}

std::string content_of(Root& root, PackageId id, const std::string& path,
                       const std::shared_ptr<const archive::Table>& table) {
  const auto read = [&](const archive::PackageReader& reader) { return reader.content(*reader.find(path)); };
  if (const auto* const reader = root.file_reader(id)) return read(*reader);
  const Package& package = root.universe().package(id);
  const Offer& offer = root.universe()[id].offers.front();
  const auto open = [&](std::unique_ptr<os::ReadableFile> file, const std::string& where) {
    return archive::PackageReader(std::move(file), where, offer.table_digest, table);
  };
  if (repo::in_cache(root.files(), package, offer)) {
    const std::string place = repo::cache_path(package);
    try {
      return read(open(root.files().open(place), root.files().shown(place)));
    } catch (const Error& problem) {  // a cache is not a safe
      root.observer().note(fmt::format("{}: {}; it is fetched again", problem.where(), problem.problem()));
    }
  }
  const auto& all = root.repositories();
  const auto from = std::find_if(all.begin(), all.end(), [&](const auto& one) { return one.name == offer.repository; });
  if (from == all.end())
    throw Error(ErrorCode::NotFound, fmt::format("the repository {} is gone", offer.repository), package.title(),
                "run `hambrel refresh`");
  const std::string url = from->url + "/" + repo::package_url_path(package);
  return read(open(repo::open_url(url, offer.size), url));
}

txn::PackageFile VersionFiles::open(const state::StatePackage& package) {
  if (auto* const reader = in_cache(package)) return {reader, true};
  return {in_repository(package), false};
}

archive::PackageReader* VersionFiles::in_cache(const state::StatePackage& package) {
  const std::string path = repo::cache_path(package.package);
  os::FileSystem& root = root_.files();
  if (!root.stat(path)) return nullptr;
  try {
    if (root.digest(path) == package.digest)
      return keep(std::make_unique<archive::PackageReader>(os::open_each_time(root, path), root.shown(path)));
  } catch (const Error& problem) {
    root_.observer().note(fmt::format("{}: {}", problem.where(), problem.problem()));
  }
  return nullptr;
}

archive::PackageReader* VersionFiles::in_repository(const state::StatePackage& package) {
  const Universe& universe = root_.universe();
  for (const PackageId id : universe.versions_of(package.package.name)) {
    if (universe.package(id).version != package.package.version || universe.architecture(id) != package.package.arch)
      continue;
    for (const Offer& offer : universe[id].offers)
      for (const repo::Repository& one : root_.repositories()) {
        if (one.name != offer.repository || offer.digest != package.digest) continue;
        const std::string url = one.url + "/" + repo::package_url_path(package.package);
        try {
          auto reader = std::make_unique<archive::PackageReader>(repo::open_url(url, offer.size), shown_url(url));
          if (reader->footer().table_digest == offer.table_digest) return keep(std::move(reader));
          root_.observer().note(shown_url(url) + ": is not the package that the index names");
        } catch (const Error& problem) {
          root_.observer().note(fmt::format("{}: {}", problem.where(), problem.problem()));
        }
      }
  }
  return nullptr;
}

}  // namespace hambrel::operations
