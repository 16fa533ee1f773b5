#include "operations/incoming_files.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"

namespace hambrel::operations {

IncomingFiles::IncomingFiles(Root& root, const plan::Plan& plan) : root_(root) {
  const Universe& universe = root.universe();
  for (const plan::Step& step : plan.steps) {
    if (!step.brings_files()) continue;
    const PackageId id = *step.after_id;
    coming_.push_back(id);
    if (root.file_reader(id) == nullptr && root.kept(id) == nullptr)
      offered_.push_back({universe.package(id), universe[id].offers.front()});
  }
}

txn::Fetched IncomingFiles::missing() const {
  txn::Fetched missing{0, repo::kPackageCache};
  for (const repo::PackageToFetch& one : offered_)
    if (!repo::in_cache(root_.files(), one.package, one.offer)) missing.bytes += one.offer.size;
  return missing;
}

void IncomingFiles::verify_outside() const {
  for (const PackageId id : coming_)
    if (archive::PackageReader* const reader = root_.file_reader(id)) reader->verify_all();
}

void IncomingFiles::open(txn::Planned& planned, const Tables& tables, const std::function<bool()>& stop_asked) {
  owned_.clear();
  arrivals_.reset();
  arrivals_ =
      std::make_unique<repo::DownloadQueue>(root_.files(), root_.network(), offered_, root_.repositories(), stop_asked);
  planned.tree.fetched = {arrivals_->bytes(), repo::kPackageCache};
  planned.arrival = nullptr;
  if (!arrivals_->none()) planned.arrival = [this] { return arrivals_->settle(root_.observer()); };
  HAMBREL_ASSERT(planned.sources.size() == coming_.size(), "each package that comes has a source");
  for (std::size_t i = 0; i < planned.sources.size(); ++i) {
    const PackageId id = coming_[i];
    if (root_.kept(id) != nullptr) continue;
    txn::Source& source = planned.sources[i];
    source.reader = root_.file_reader(id);
    if (source.reader != nullptr) continue;
    const Offer& offer = root_.universe()[id].offers.front();
    const auto& table = tables.at(id);
    if (const std::string* const url = arrivals_->url_of(source.package)) {
      const archive::Footer footer{offer.table_offset, offer.table_size, offer.table_digest};
      owned_.push_back(std::make_unique<archive::PackageReader>(arrivals_->open(source.package), *url, footer, table));
    } else {
      const std::string path = repo::cache_path(source.package);
      owned_.push_back(std::make_unique<archive::PackageReader>(os::open_each_time(root_.files(), path),
                                                                root_.files().shown(path), offer.table_digest, table));
    }
    source.reader = owned_.back().get();
  }
}

bool IncomingFiles::drop_damaged(const Error& problem) {
  if (problem.code() != ErrorCode::Untrusted) return false;
  if (arrivals_ && arrivals_->spoil(problem.where())) {
    root_.observer().note(fmt::format("{}: the partial download does not match; it is fetched again", problem.where()));
    return true;
  }
  for (const repo::PackageToFetch& one : offered_) {
    const std::string path = repo::cache_path(one.package);
    if (root_.files().shown(path) != problem.where() || !root_.files().stat(path)) continue;
    root_.observer().note(fmt::format("{}: {}; it is fetched again", problem.where(), problem.problem()));
    root_.files().remove_file(path);
    return true;
  }
  return false;
}

}  // namespace hambrel::operations
