#include "repo/servers.h"

#include <algorithm>

#include "base/assert.h"

namespace hambrel::repo {

namespace {

constexpr std::uint64_t kTelling = 64 << 10;  // bytes: what is shorter says more about the way than about the speed
constexpr double kTooSlow = 0.25;             // of the fastest one's rate: nothing is shared with it

}  // namespace

Servers::Servers(std::string url) : servers_(1) { servers_.front().url = std::move(url); }

Servers::Servers(const settings::Repository& repository) : name_(repository.name), access_(repository.access) {
  for (std::string& url : repository.urls()) {
    servers_.emplace_back();
    servers_.back().url = std::move(url);
  }
}

std::string Servers::url(std::size_t server, std::string_view path) const {
  const std::string& base = servers_[server].url;
  return path.empty() ? base : base + "/" + std::string(path);
}

double Servers::weight(const Server& server) const {
  double sum = 0, fastest = 0;
  unsigned measured = 0;
  for (const Server& one : servers_) {
    if (one.rate <= 0) continue;
    sum += one.rate;
    fastest = std::max(fastest, one.rate);
    ++measured;
  }
  if (measured == 0) return 1;
  if (server.rate <= 0) return sum / measured;
  return server.rate < kTooSlow * fastest ? server.rate * kTooSlow : server.rate;
}

std::optional<std::size_t> Servers::choose(const std::vector<bool>& asked, bool shares) const {
  const std::lock_guard lock(mutex_);
  std::optional<std::size_t> best;
  double least = 0;
  for (std::size_t i = 0; i < servers_.size(); ++i) {
    if (i < asked.size() && asked[i]) continue;
    const Server& server = servers_[i];
    constexpr double kFailed = 1e12;  // after all that did not
    double cost = shares ? (server.active + 1) / weight(server) : static_cast<double>(i);
    cost += kFailed * server.failures;
    if (best && cost >= least) continue;
    best = i;
    least = cost;
  }
  return best;
}

void Servers::begun(std::size_t server) {
  const std::lock_guard lock(mutex_);
  ++servers_[server].active;
}

void Servers::ended(std::size_t server, std::uint64_t bytes, double seconds, const std::string& failure) {
  const std::lock_guard lock(mutex_);
  Server& one = servers_[server];
  HAMBREL_ASSERT(one.active > 0, "what ends was begun");
  --one.active;
  one.bytes += bytes;
  if (failure.empty()) {
    one.failures = 0;
    one.answered = true;
  } else {
    ++one.failures;
    one.failure = failure;
  }
  if (bytes < kTelling || seconds <= 0) return;
  const double rate = static_cast<double>(bytes) / seconds;
  constexpr double kWeight = 0.3;  // of what was measured last
  one.rate = one.rate <= 0 ? rate : (1 - kWeight) * one.rate + kWeight * rate;
}

bool Servers::blame(std::string_view url) {
  const std::lock_guard lock(mutex_);
  for (Server& one : servers_)
    if (url.starts_with(one.url)) {
      ++one.failures;
      one.failure = "what came was not what the repository describes";
      break;
    }
  return std::any_of(servers_.begin(), servers_.end(), [](const Server& one) { return one.failures == 0; });
}

void Servers::took(std::uint64_t bytes) {
  if (access_.rate == 0) return;
  const std::chrono::duration<double> cost(static_cast<double>(bytes) / static_cast<double>(access_.rate));
  const std::lock_guard lock(mutex_);
  paid_until_ = std::max(paid_until_, std::chrono::steady_clock::now()) +
                std::chrono::duration_cast<std::chrono::steady_clock::duration>(cost);
}

std::chrono::steady_clock::time_point Servers::next_start() const {
  const std::lock_guard lock(mutex_);
  return paid_until_;
}

std::uint64_t Servers::share_of_rate() const {
  if (access_.rate == 0) return 0;
  const std::lock_guard lock(mutex_);
  std::uint64_t active = 0;
  for (const Server& one : servers_) active += one.active;
  return std::max<std::uint64_t>(1, access_.rate / std::max<std::uint64_t>(1, active));
}

std::vector<Servers::Known> Servers::known() const {
  const std::lock_guard lock(mutex_);
  return {servers_.begin(), servers_.end()};
}

}  // namespace hambrel::repo
