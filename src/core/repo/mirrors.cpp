#include "repo/mirrors.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <tuple>

#include "base/json.h"
#include "base/text.h"
#include "repo/source.h"
#include "repo/trusted.h"
#include "trust/documents.h"

namespace hambrel::repo {

namespace {

constexpr const char* kNotes = "var/cache/hambrel/mirrors";
constexpr int kRounds = 5;
constexpr std::uint64_t kPiece = 256 << 10;  // bytes of the index in each round

using Clock = std::chrono::steady_clock;

std::string notes_of(const std::string& repository) { return fmt::format("{}/{}.json", kNotes, repository); }

double seconds_since(Clock::time_point begin) { return std::chrono::duration<double>(Clock::now() - begin).count(); }

Spread spread_of(std::vector<double> values) {
  if (values.empty()) return {};
  std::sort(values.begin(), values.end());
  return {values[values.size() / 2], values.front(), values.back()};
}

/// One mirror while it is measured.
struct Trial {
  MirrorMeasure measure;
  settings::Repository alone;  // the repository as if this were its only place
  std::vector<double> milliseconds, rates;
};

/// The number of its timestamp. Throws what is wrong with it.
std::uint64_t verified_timestamp(os::FileReader& root, Network& network, const settings::Repository& alone,
                                 std::int64_t now) {
  const std::string text = network.text(network.request(alone, trust::kTimestampPath, trust::kMostTimestampBytes));
  const std::string where = shown_url(alone.url);
  if (alone.accepts_unsigned) return trust::version_of(text, where);
  const auto trusted = TrustedRepository::read(root, alone.name);
  if (!trusted) return trust::version_of(text, where);
  const auto document = trusted->root().verified(text, trust::Root::Of::Timestamp, where);
  document.require_fresh(now, 0);
  return document.version();
}

/// A piece of the index that the cache knows of.
struct Probe {
  std::string path;
  std::uint64_t size = 0;  // of the whole index
};

Probe probe_for(os::FileReader& root, const settings::Repository& repository) {
  const auto source = read_source(root, repository);
  if (!source) return {};
  const auto file = root.stat(cached_index(root, repository.name, source->digest));
  trust::Pointer pointer;
  pointer.path = trust::index_path(source->version);
  pointer.digest = source->digest;
  return {pointer.path, file ? file->size : 0};
}

void measure(Network& network, Trial& trial, const Probe& probe, int round) {
  try {
    auto begin = Clock::now();
    network.text(network.request(trial.alone, trust::kTimestampPath, trust::kMostTimestampBytes));
    trial.milliseconds.push_back(seconds_since(begin) * 1000);
    if (probe.size == 0) return;
    const std::uint64_t size = std::min(probe.size, kPiece);
    const std::uint64_t offset =
        probe.size - size == 0 ? 0 : (kPiece * static_cast<unsigned>(round)) % (probe.size - size);
    Request request = network.request(trial.alone, probe.path, size);
    request.range = std::pair(offset, size);
    request.only_range = true;
    begin = Clock::now();
    network.text(std::move(request));
    trial.rates.push_back(static_cast<double>(size) / std::max(seconds_since(begin), 1e-6));
  } catch (const Error& problem) {
    // one that is ahead, or sends no ranges, has no such piece: its latency still counts
    if (trial.milliseconds.size() <= static_cast<std::size_t>(round)) trial.measure.problem = problem.problem();
  }
}

/// Seconds that a mebibyte would take, about.
double cost_of(const MirrorMeasure& one) {
  constexpr double kMebibyte = 1 << 20;
  return one.milliseconds.median / 1000 + (one.rate.is_known() ? kMebibyte / one.rate.median : 1);
}

}  // namespace

std::vector<MirrorFailure> failures_of(os::FileReader& root, const std::string& repository) {
  const std::string path = notes_of(repository);
  std::vector<MirrorFailure> all;
  try {
    if (!root.stat(path)) return all;
    const Json whole = parse_json(root.read_all(path, 1 << 20), root.shown(path));
    for (const Json& item : JsonObject(whole, root.shown(path)).member("failures")) {
      const JsonObject one(item, root.shown(path));
      all.push_back({one.text("url"), one.text("problem"), one.signed_number("time")});
    }
  } catch (const Error&) {  // only what was noted: the next refresh writes it anew
    all.clear();
  }
  return all;
}

void forget_failures(os::FileSystem& root, const std::string& repository) {
  if (const std::string path = notes_of(repository); root.stat(path)) root.remove_file(path);
}

void note_failures(os::FileSystem& root, Network& network, const settings::Repository& repository, std::int64_t now) {
  root.make_directories(kNotes);
  const std::vector<MirrorFailure> before = failures_of(root, repository.name);
  std::vector<MirrorFailure> after;
  bool is_new = false;
  for (const Servers::Known& one : network.servers(repository)->known()) {
    const std::string url = shown_url(one.url);
    const auto known = std::find_if(before.begin(), before.end(), [&](const auto& old) { return old.url == url; });
    if (one.failures > 0) {
      after.push_back({url, one.failure, now});
      is_new = is_new || known == before.end() || known->problem != one.failure;
    } else if (known != before.end()) {
      if (!one.answered) after.push_back(*known);  // it was not asked
      is_new = is_new || one.answered;
    }
  }
  if (!is_new) return;
  Json list = Json::array();
  for (const MirrorFailure& one : after)
    list.push_back({{"url", one.url}, {"problem", one.problem}, {"time", one.time}});
  root.replace_file(notes_of(repository.name), canonical({{"failures", list}}), 0644);
}

std::vector<MirrorMeasure> compare_mirrors(os::FileReader& root, Network& network,
                                           const settings::Repository& repository, std::int64_t now,
                                           Observer& observer) {
  std::vector<Trial> trials;
  const std::vector<std::string> used = repository.urls();
  std::vector<std::string> all = used;
  all.insert(all.end(), repository.spare.begin(), repository.spare.end());
  for (const std::string& url : all) {
    Trial trial;
    trial.measure.url = url;
    trial.measure.in_use = std::find(used.begin(), used.end(), url) != used.end();
    trial.alone = repository;
    trial.alone.url = url;
    trial.alone.further.clear();
    trials.push_back(std::move(trial));
  }
  observer.begin("comparing mirrors", trials.size() * (kRounds + 1), Observer::Unit::Items);
  std::uint64_t done = 0, newest = 0;
  for (Trial& trial : trials) {
    try {
      trial.measure.timestamp = verified_timestamp(root, network, trial.alone, now);
      newest = std::max(newest, trial.measure.timestamp);
    } catch (const Error& problem) {
      trial.measure.problem = problem.problem();
    }
    observer.progress(++done);
  }
  const Probe probe = probe_for(root, repository);
  for (int round = 0; round < kRounds; ++round)
    for (Trial& trial : trials) {
      if (trial.measure.problem.empty()) measure(network, trial, probe, round);
      observer.progress(++done);
    }
  observer.end();
  std::vector<MirrorMeasure> result;
  for (Trial& trial : trials) {
    if (trial.measure.timestamp != 0) trial.measure.behind = newest - trial.measure.timestamp;
    trial.measure.milliseconds = spread_of(std::move(trial.milliseconds));
    trial.measure.rate = spread_of(std::move(trial.rates));
    result.push_back(std::move(trial.measure));
  }
  std::stable_sort(result.begin(), result.end(), [](const MirrorMeasure& a, const MirrorMeasure& b) {
    const auto key = [](const MirrorMeasure& one) {
      return std::tuple(!one.problem.empty(), one.behind > 0, cost_of(one));
    };
    return key(a) < key(b);
  });
  return result;
}

}  // namespace hambrel::repo
