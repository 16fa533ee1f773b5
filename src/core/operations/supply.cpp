#include "operations/supply.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/parallel.h"
#include "base/text.h"
#include "os/host.h"
#include "repo/download.h"
#include "repo/index.h"
#include "repo/transfer.h"

namespace hambrel::operations {

namespace {

const settings::Repository& repository_of(Root& root, const Package& package, const Offer& offer) {
  const auto& all = root.repositories();
  const auto found =
      std::find_if(all.begin(), all.end(), [&](const auto& one) { return one.name == offer.repository; });
  if (found != all.end()) return *found;
  throw Error(ErrorCode::NotFound, fmt::format("the repository {} is gone", offer.repository), package.title(),
              "run `hambrel refresh`");
}

/// Of a package that has just been fetched.
std::shared_ptr<const archive::Contents> table_in_cache(Root& root, PackageId id) {
  const std::string path = repo::cache_path(root.universe().package(id));
  const archive::PackageReader reader(root.files().open(path), root.files().shown(path));
  if (reader.footer().table_digest != root.universe()[id].offers.front().table_digest)
    throw Error(ErrorCode::Untrusted, "is not the package the index describes", root.files().shown(path),
                "run `hambrel refresh`; if this persists, tell the repository's maintainer");
  return reader.shared_contents();
}

/// Tables of contents from wherever they are.
class TableCollector {
 public:
  TableCollector(Root& root, std::size_t most, std::vector<PackageId>* damaged)
      : root_(root), damaged_(damaged), texts_(most) {}

  Tables collect(const std::vector<PackageId>& ids) {
    std::vector<PackageId> left;
    for (const PackageId id : ids)
      if (!is_known(id)) left.push_back(id);
    read_cached(left);
    for (const PackageId id : left)
      if (!tables_.contains(id)) ask_for(id);
    Observer silent;
    root_.network().fetch(requests_, silent);
    fetch_whole();
    for (std::size_t i = 0; i < requests_.size(); ++i) read_answer(i);
    return std::move(tables_);
  }

 private:
  /// In a file that was given, or in the state.
  bool is_known(PackageId id) {
    if (const auto* reader = root_.file_reader(id)) {
      tables_.emplace(id, reader->shared_contents());
      return true;
    }
    if (const auto* const kept = root_.kept(id)) {
      tables_.emplace(id, std::make_shared<archive::Contents>(*root_.state()->files_of(kept->row)));
      return true;
    }
    return false;
  }

  /// Those of files in the cache, several at once. A cache is not a safe: what is damaged is fetched again.
  void read_cached(const std::vector<PackageId>& ids) {
    constexpr std::size_t kFew = 8;  // tables that are not worth a thread
    struct Found {
      std::shared_ptr<const archive::Contents> table{};
      std::optional<Error> problem{};
    };
    std::vector<Found> found(ids.size());
    const Universe& universe = root_.universe();
    in_portions(ids.size(), os::processors(), kFew, [&](std::size_t first, std::size_t last) {
      for (std::size_t i = first; i < last; ++i) {
        const Offer& offer = universe[ids[i]].offers.front();
        const Package& package = universe.package(ids[i]);
        if (!repo::in_cache(root_.files(), package, offer)) continue;
        const std::string path = repo::cache_path(package);
        try {
          const archive::PackageReader reader(root_.files().open(path), root_.files().shown(path));
          if (reader.footer().table_digest == offer.table_digest) found[i].table = reader.shared_contents();
        } catch (const Error& problem) {
          found[i].problem = problem;
        }
      }
    });
    for (std::size_t i = 0; i < ids.size(); ++i) {
      if (found[i].table) tables_.emplace(ids[i], std::move(found[i].table));
      if (!found[i].problem) continue;
      const Error& problem = *found[i].problem;
      root_.observer().note(fmt::format("{}: {}; it is fetched again", problem.where(), problem.problem()));
      if (damaged_ != nullptr) damaged_->push_back(ids[i]);
    }
  }

  void ask_for(PackageId id) {
    const Package& package = root_.universe().package(id);
    const Offer& offer = root_.universe()[id].offers.front();
    std::string* const text = &texts_[asked_.size()];
    asked_.push_back(id);
    repo::Request request = root_.network().request(repository_of(root_, package, offer),
                                                    repo::package_url_path(package), offer.table_size);
    request.range = std::pair(offer.table_offset, offer.table_size);
    request.sink = [text](std::string_view data) { *text += data; };
    request.again = [text] { text->clear(); };
    request.verify = [text, offer, url = shown_url(request.servers->url(0, request.path))] {
      if (sha256(*text) != offer.table_digest)
        throw Error(ErrorCode::Untrusted, "is not the package the index describes", url,
                    "run `hambrel refresh`; if this persists, tell the repository's maintainer");
    };
    request.pace = root_.network().pace();
    request.shares = true;
    request.only_range = true;
    requests_.push_back(std::move(request));
  }

  /// From servers that send no ranges.
  void fetch_whole() {
    std::vector<repo::PackageToFetch> whole;
    for (std::size_t i = 0; i < requests_.size(); ++i)
      if (requests_[i].no_ranges)
        whole.push_back({root_.universe().package(asked_[i]), root_.universe()[asked_[i]].offers.front()});
    if (whole.empty()) return;
    root_.observer().note(
        fmt::format("{}: the server only sends whole files, so {} fetched before the plan is made",
                    shown_url(requests_.front().from),
                    whole.size() == 1 ? "1 package is" : fmt::format("{} packages are", whole.size())));
    repo::download(root_.files(), root_.network(), whole, root_.repositories(), root_.observer());
  }

  void read_answer(std::size_t i) {
    const PackageId id = asked_[i];
    const repo::Request& request = requests_[i];
    if (request.no_ranges) {
      tables_.emplace(id, table_in_cache(root_, id));
      return;
    }
    if (request.problem) throw *request.problem;
    const Offer& offer = root_.universe()[id].offers.front();
    tables_.emplace(
        id, std::make_shared<const archive::Contents>(archive::read_contents(
                texts_[i], {offer.table_offset, offer.table_size, offer.table_digest}, shown_url(request.from))));
  }

  Root& root_;
  std::vector<PackageId>* damaged_;
  Tables tables_;
  std::vector<PackageId> asked_;
  std::vector<std::string> texts_;  // by what is asked for; they stay where they are
  std::vector<repo::Request> requests_;
};

}  // namespace

Tables tables_of(Root& root, const std::vector<PackageId>& ids, std::vector<PackageId>* damaged) {
  return TableCollector(root, ids.size(), damaged).collect(ids);
}

std::vector<FileEntry> files_of(Root& root, PackageId id) {
  const Candidate& one = root.universe()[id];
  if (one.installed && root.file_reader(id) == nullptr) return root.state()->files_of(one.installed->row)->entries();
  return tables_of(root, {id}).at(id)->files().entries();
}

std::string content_of(Root& root, PackageId id, const std::string& path,
                       const std::shared_ptr<const archive::Contents>& contents) {
  const auto read = [&](const archive::PackageReader& reader) { return reader.content(*reader.find(path)); };
  if (const auto* const reader = root.file_reader(id)) return read(*reader);
  const Package& package = root.universe().package(id);
  const Offer& offer = root.universe()[id].offers.front();
  const auto open = [&](std::unique_ptr<os::ReadableFile> file, const std::string& where) {
    return archive::PackageReader(std::move(file), where, offer.table_digest, contents);
  };
  if (repo::in_cache(root.files(), package, offer)) {
    const std::string place = repo::cache_path(package);
    try {
      return read(open(root.files().open(place), root.files().shown(place)));
    } catch (const Error& problem) {  // a cache is not a safe
      root.observer().note(fmt::format("{}: {}; it is fetched again", problem.where(), problem.problem()));
    }
  }
  const auto servers = root.network().servers(repository_of(root, package, offer));
  const std::string place = repo::package_url_path(package);
  return read(open(root.network().open(servers, place, offer.size), shown_url(servers->url(0, place))));
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
      for (const settings::Repository& one : root_.repositories()) {
        if (one.name != offer.repository || offer.digest != package.digest) continue;
        const std::string place = repo::package_url_path(package.package), url = one.url + "/" + place;
        repo::Network& network = root_.network();
        try {
          auto reader = std::make_unique<archive::PackageReader>(network.open(network.servers(one), place, offer.size),
                                                                 shown_url(url));
          if (reader->footer().table_digest == offer.table_digest) return keep(std::move(reader));
          root_.observer().note(shown_url(url) + ": is not the package the index describes");
        } catch (const Error& problem) {
          root_.observer().note(fmt::format("{}: {}", problem.where(), problem.problem()));
        }
      }
  }
  return nullptr;
}

}  // namespace hambrel::operations
