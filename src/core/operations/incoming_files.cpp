#include "operations/incoming_files.h"

#include <fmt/format.h>

#include <algorithm>

#include "archive/frame_ranges.h"
#include "base/assert.h"
#include "repo/download_piece.h"

namespace hambrel::operations {

IncomingFiles::IncomingFiles(Root& root, const plan::Plan& plan) : root_(root) {
  const Universe& universe = root.universe();
  for (const plan::Step& step : plan.steps) {
    if (!step.brings_files()) continue;
    const PackageId id = *step.after_id;
    coming_.push_back(id);
    const bool is_offered = root.file_reader(id) == nullptr && root.kept(id) == nullptr;
    offered_of_.push_back(is_offered ? offered_.size() : SIZE_MAX);
    if (is_offered) offered_.push_back({universe.package(id), universe[id].offers.front()});
  }
}

namespace {

/// Numbers in the table of what is read from a package file, ascending.
std::vector<std::size_t> entries_read(const txn::TreeChange& tree, std::size_t package, const FileList& files) {
  std::vector<std::size_t> entries;
  const auto add = [&](std::string_view path) {
    if (const auto number = files.find(path)) entries.push_back(*number);
  };
  for (const txn::Put& put : tree.puts)
    if (put.package == package && put.is_unpacked()) add(put.path_in_package());
  for (const txn::Pristine& one : tree.pristine)
    if (one.package == package && one.kept.empty()) add(one.entry.path);
  std::sort(entries.begin(), entries.end());
  entries.erase(std::unique(entries.begin(), entries.end()), entries.end());
  return entries;
}

/// Nothing: all of the file is not much more, and it can be kept.
std::optional<std::vector<archive::FrameRange>> ranges_worth_it(const archive::Contents& contents,
                                                                const std::vector<std::size_t>& entries,
                                                                ByteCount whole) {
  constexpr ByteCount kOfARequest = 4 << 10;  // bytes that it costs with its answer, about
  std::vector<archive::FrameRange> ranges = archive::ranges_of(contents, archive::needed_frames(contents, entries));
  const ByteCount cost = archive::size_of(ranges) + ranges.size() * kOfARequest;
  if (cost * 4 >= whole * 3) return std::nullopt;
  return ranges;
}

}  // namespace

void IncomingFiles::supply(txn::TreeChange& tree, const Tables& tables, ContentHere& here, unsigned workers) {
  HAMBREL_ASSERT(offered_of_.size() == coming_.size(), "each package that comes is offered or at hand");
  std::vector<const archive::Contents*> fetched(coming_.size(), nullptr);
  for (std::size_t i = 0; i < coming_.size(); ++i) {
    if (offered_of_[i] == SIZE_MAX) continue;
    repo::PackageToFetch& one = offered_[offered_of_[i]];
    one.contents = tables.at(coming_[i]);
    one.ranges.reset();
    // what came of all of it at another time is gone on with
    if (!is_in_cache(one) && repo::rest_of(root_.files(), one.package, one.offer) == 0) fetched[i] = one.contents.get();
  }
  here.use(tree, fetched, workers);
  for (std::size_t i = 0; i < coming_.size(); ++i) {
    if (fetched[i] == nullptr) continue;
    repo::PackageToFetch& one = offered_[offered_of_[i]];
    one.ranges = ranges_worth_it(*fetched[i], entries_read(tree, i, fetched[i]->files()), one.offer.size);
  }
  tree.fetched = {missing(), repo::kPackageCache};
}

/// nullptr: it is given, or the attic brings it back.
const repo::PackageToFetch* IncomingFiles::offered_of(PackageId id) const {
  const auto at = static_cast<std::size_t>(std::find(coming_.begin(), coming_.end(), id) - coming_.begin());
  return at == coming_.size() || offered_of_[at] == SIZE_MAX ? nullptr : &offered_[offered_of_[at]];
}

std::optional<ByteCount> IncomingFiles::missing_of(PackageId id) const {
  const repo::PackageToFetch* const one = offered_of(id);
  if (one == nullptr) return std::nullopt;
  return is_in_cache(*one) ? 0 : repo::missing_of(root_.files(), *one);
}

ByteCount IncomingFiles::whole_of(PackageId id) const {
  const repo::PackageToFetch* const one = offered_of(id);
  return one != nullptr && one->ranges && !is_in_cache(*one) ? one->offer.size : 0;
}

ByteCount IncomingFiles::missing() const {
  ByteCount bytes = 0;
  for (const repo::PackageToFetch& one : offered_)
    if (!is_in_cache(one)) bytes += repo::missing_of(root_.files(), one);
  return bytes;
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
    root_.observer().note(fmt::format("{}: {}; it is fetched again", problem.where(), problem.problem()));
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
