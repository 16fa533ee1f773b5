#include "cli/incoming.h"

#include <fmt/format.h>

#include <algorithm>

namespace hambrel::cli {

Incoming::Incoming(Session& session, const plan::Plan& plan) : session_(session) {
  const Universe& universe = session.universe();
  for (const plan::Step& step : plan.steps) {
    if (!step.brings_files()) continue;
    const PackageId id = *step.after_id;
    coming_.push_back(id);
    if (session.file_reader(id) == nullptr && session.kept(id) == nullptr)
      offered_.push_back({universe.package(id), universe[id].offers.front()});
  }
}

txn::Fetched Incoming::missing() const {
  txn::Fetched missing{0, repo::kPackageCache};
  for (const repo::Wanted& one : offered_)
    if (!repo::in_cache(session_.root(), one.package, one.offer)) missing.bytes += one.offer.size;
  return missing;
}

void Incoming::take_off_rests(Session& session, plan::Plan& plan) {
  if (!session.root().stat(repo::kPackageCache)) return;
  for (plan::Step& step : plan.steps) {
    if (step.download == 0 || !step.after_id) continue;
    const auto& offers = session.universe()[*step.after_id].offers;
    if (offers.empty()) continue;
    const ByteCount rest = repo::rest_of(session.root(), session.universe().package(*step.after_id), offers.front());
    step.download -= std::min(step.download, rest);
  }
}

void Incoming::verify_outside() const {
  for (const PackageId id : coming_)
    if (archive::PackageReader* const reader = session_.file_reader(id)) reader->verify_all();
}

void Incoming::open(txn::Planned& planned, const Tables& tables, const os::InterruptGuard& guard) {
  owned_.clear();
  arrivals_.reset();
  arrivals_ = std::make_unique<repo::Arrivals>(session_.root(), offered_, session_.repositories(),
                                               session_.settings().downloads, [&] { return guard.asked(); });
  planned.tree.fetched = {arrivals_->bytes(), repo::kPackageCache};
  planned.arrival = nullptr;
  if (!arrivals_->none()) planned.arrival = [this] { return arrivals_->settle(session_.progress()); };
  for (std::size_t i = 0; i < planned.sources.size(); ++i) {
    const PackageId id = coming_[i];
    if (session_.kept(id) != nullptr) continue;
    txn::Source& source = planned.sources[i];
    source.reader = session_.file_reader(id);
    if (source.reader != nullptr) continue;
    const Offer& offer = session_.universe()[id].offers.front();
    const auto& table = tables.at(id);
    if (const std::string* const url = arrivals_->url_of(source.package)) {
      const archive::Footer footer{offer.table_offset, offer.table_size, offer.table_digest};
      owned_.push_back(std::make_unique<archive::PackageReader>(arrivals_->open(source.package), *url, footer, table));
    } else {
      const std::string path = repo::cache_path(source.package);
      owned_.push_back(std::make_unique<archive::PackageReader>(
          os::open_each_time(session_.root(), path), session_.root().shown(path), offer.table_digest, table));
    }
    source.reader = owned_.back().get();
  }
}

bool Incoming::drop_damaged(const Error& problem) {
  if (problem.code() != ErrorCode::Untrusted) return false;
  if (arrivals_ && arrivals_->spoil(problem.where())) {
    session_.progress().note(
        fmt::format("{}: what an earlier try had left of it does not fit; it is fetched anew", problem.where()));
    return true;
  }
  for (const repo::Wanted& one : offered_) {
    const std::string path = repo::cache_path(one.package);
    if (session_.root().shown(path) != problem.where() || !session_.root().stat(path)) continue;
    session_.progress().note(fmt::format("{}: {}; it is fetched again", problem.where(), problem.problem()));
    session_.root().remove_file(path);
    return true;
  }
  return false;
}

}  // namespace hambrel::cli
