#include "repo/transfer.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <deque>
#include <iterator>
#include <memory>

#include "base/text.h"
#include "os/host.h"
#include "repo/curl_library.h"
#include "repo/digest_queue.h"
#include "repo/exchange.h"

namespace hambrel::repo {

namespace {

using Clock = Exchange::Clock;

constexpr unsigned kMostRounds = 3;  // in which each server is asked once
constexpr unsigned kMostBreaks = 8;  // of one transfer, each after some bytes more
constexpr std::chrono::milliseconds kFirstWait{200};
constexpr unsigned kFewest = 4, kMost = 48;  // transfers at a time, where nobody has set how many

/// Open files for transfers; others need some, too.
unsigned files_for_transfers() {
  constexpr unsigned kOfOthers = 24;
  const unsigned files = os::most_open_files();
  return files > kOfOthers ? files - kOfOthers : 0;
}

/// Each has a connection and a file, and connections are kept.
constexpr unsigned kOfEach = 3;
unsigned most_transfers() { return std::clamp(files_for_transfers() / kOfEach, kFewest, kMost); }

/// Files that are read again together: what transfers leave is enough for them, or it is one at a time.
std::size_t most_read_together() {
  const unsigned files = files_for_transfers(), of_transfers = most_transfers() * kOfEach;
  return std::clamp<std::size_t>(files > of_transfers ? files - of_transfers : 0, 1, sha256_lanes());
}

template <typename Do>
std::optional<Error> problem_of(Do act) {
  try {
    act();
    return std::nullopt;
  } catch (const Error& problem) {
    return problem;
  }
}

/// Of several problems with one file: what was changed on the way is told rather than what did not come.
bool tells_more(const Error& problem, const std::optional<Error>& before) {
  return !before || (problem.code() == ErrorCode::Untrusted && before->code() != ErrorCode::Untrusted);
}

}  // namespace

/// The requests of one fetch, from one thread.
class Network::Fetching {
 public:
  Fetching(Network& network, std::vector<Request>& requests, CURLM* multi, Observer& observer)
      : network_(network), multi_(multi), observer_(observer), parallel_(network.parallel()) {
    if (parallel_ == 0) parallel_ = std::max<unsigned>(kFewest, network.learned_);
    for (Request& request : requests) {
      Job job;
      job.request = &request;
      job.servers = request.servers ? request.servers : std::make_shared<Servers>(request.url);
      job.asked.assign(job.servers->count(), false);
      job.received = request.has;
      waiting_.push_back(std::move(job));
    }
  }
  ~Fetching() {
    for (const Job& job : running_) curl_library().multi_remove_handle(multi_, job.exchange->handle());
  }

  void run(const std::function<bool()>& stop) {
    while (!waiting_.empty() || !running_.empty() || !unverified_.empty()) {
      if (stop()) return end_all();
      start_some();
      go_on_with_paused();
      int active = 0;
      curl_library().multi_perform(multi_, &active);
      int left = 0;
      while (const CURLMsg* message = curl_library().multi_info_read(multi_, &left))
        if (message->msg == CURLMSG_DONE) over(message->easy_handle, message->data.result);
      drop_slow();
      verify_some();
      observer_.progress(total_);
      if (!running_.empty() || !waiting_.empty() || !unverified_.empty())
        curl_library().multi_poll(multi_, nullptr, 0, time_to_wait(), nullptr);
    }
  }

 private:
  struct Job {
    Request* request = nullptr;
    std::shared_ptr<Servers> servers;
    std::vector<bool> asked;  // of the servers, in this round
    std::size_t server = 0;
    unsigned round = 0, breaks = 0, wait = 0;
    bool all_absent = true, may_pass = false;
    std::uint64_t received = 0;  // of what was asked for, over all tries
    std::string etag;            // of what came
    std::size_t etag_server = 0;
    std::optional<Error> problem;
    Clock::time_point began = Clock::now(), not_before = began;
    std::unique_ptr<Exchange> exchange;
    double seconds = 0, seconds_to_first_byte = 0;  // that the exchange took
  };
  struct Unverified {
    Job job;
    Exchange::End end;
  };

  void start_some() {
    const auto now = Clock::now();
    for (std::size_t i = 0; i < waiting_.size() && running_.size() < parallel_;) {
      waiting_[i].not_before = std::max(waiting_[i].not_before, waiting_[i].servers->next_start());
      if (waiting_[i].not_before > now) {
        ++i;
        continue;
      }
      Job job = std::move(waiting_[i]);
      waiting_.erase(waiting_.begin() + static_cast<std::ptrdiff_t>(i));
      start(std::move(job));
    }
  }

  void start(Job job) {
    Request& request = *job.request;
    job.server = job.servers->choose(job.asked, request.shares).value();
    job.asked[job.server] = true;
    request.from = job.servers->url(job.server, request.path);
    Exchange::Task task;
    task.url = request.from;
    task.limit = request.limit - std::min(request.limit, job.received);
    task.range = request.range;
    if (job.received > 0) {
      const std::uint64_t begin = (request.range ? request.range->first : 0) + job.received;
      const std::uint64_t size = (request.range ? request.range->second : request.limit) - job.received;
      task.range = std::pair(begin, size);
      if (job.etag_server == job.server && !job.etag.starts_with("W/")) task.if_range = job.etag;
    }
    if (request.goes_on && !request.range) task.whole = request.limit;
    task.ends_without_range = request.only_range;
    task.is_conditional = job.server == 0;
    task.sink = [this, &request, servers = job.servers.get()](std::string_view data) {
      total_ += data.size();
      servers->took(data.size());
      request.sink(data);
    };
    job.exchange = std::make_unique<Exchange>(std::move(task), request, *job.servers, job.began);
    job.servers->begun(job.server);
    curl_library().multi_add_handle(multi_, job.exchange->handle());
    running_.push_back(std::move(job));
  }

  void go_on_with_paused() {
    const auto now = Clock::now();
    for (const Job& job : running_)
      if (job.exchange->is_paused() && job.servers->next_start() <= now) job.exchange->go_on();
  }

  Job take_off(std::size_t i) {
    Job job = std::move(running_[i]);
    running_.erase(running_.begin() + static_cast<std::ptrdiff_t>(i));
    curl_library().multi_remove_handle(multi_, job.exchange->handle());
    job.seconds = job.exchange->seconds();
    job.seconds_to_first_byte = job.exchange->seconds_to_first_byte();
    return job;
  }

  void over(CURL* handle, CURLcode code) {
    const auto found = std::find_if(running_.begin(), running_.end(),
                                    [&](const Job& one) { return one.exchange->handle() == handle; });
    if (found->exchange->follow(code)) {
      curl_library().multi_remove_handle(multi_, handle);
      curl_library().multi_add_handle(multi_, handle);
      return;
    }
    Job job = take_off(static_cast<std::size_t>(found - running_.begin()));
    Exchange::End end = job.exchange->end(code);
    Request& request = *job.request;
    request.unchanged = end.unchanged;
    request.no_ranges = request.range && end.no_ranges;
    if (job.exchange->whole_size()) request.whole_size = job.exchange->whole_size();
    request.etag = job.exchange->etag();
    request.modified = job.exchange->modified();
    job.received += job.exchange->received();
    const bool is_whole = request.goes_on && job.received == (request.range ? request.range->second : request.limit);
    if (is_whole && end.problem && end.problem->code() == ErrorCode::Network) end.problem.reset();  // it needs no more
    if (!end.problem && !end.unchanged) {
      if (request.verify_digest) return verify_later(std::move(job), std::move(end));
      if (request.verify) end.problem = problem_of([&] { request.verify(); });
    }
    ended(std::move(job), std::move(end));
  }

  /// All of it has come: its digest is worked out by another thread, together with those of others.
  void verify_later(Job job, Exchange::End end) {
    digests_.add(added_, job.request->read_again);
    unverified_.emplace(added_++, Unverified{std::move(job), std::move(end)});
  }
  /// Goes on with those whose digests are known. Where nothing comes, this thread works them out, too.
  void verify_some() {
    if ((running_.empty() && waiting_.empty()) || !digests_.has_thread()) digests_.help();
    for (DigestQueue::Result& result : digests_.take()) {
      const auto found = unverified_.find(result.number);
      HAMBREL_ASSERT(found != unverified_.end(), "what is told was added");
      Unverified one = std::move(found->second);
      unverified_.erase(found);
      one.end.problem = std::move(result.problem);
      one.end.of_receiver = one.end.problem.has_value();
      if (!one.end.problem) one.end.problem = problem_of([&] { one.job.request->verify_digest(result.digest); });
      ended(std::move(one.job), std::move(one.end));
    }
  }

  void drop_slow() {
    for (std::size_t i = 0; i < running_.size();) {
      const auto slow = running_[i].exchange->too_slow(Clock::now());
      if (!slow) {
        ++i;
        continue;
      }
      Job job = take_off(i);
      Exchange::End end;
      end.problem = Error(ErrorCode::Network, *slow, shown_url(job.exchange->url()),
                          "try again later, or allow less: [fetch] in hambrel.toml");
      job.received += job.exchange->received();
      ended(std::move(job), std::move(end));
    }
  }

  /// It is over on one server: with all of it there, or to be asked of another one, or failed.
  void ended(Job job, Exchange::End end) {
    Request& request = *job.request;
    const std::uint64_t came = job.exchange->received();
    const bool is_fault = end.problem && !end.of_receiver && !(end.absent && request.may_be_absent);
    // each that waited longer than it took to come makes room for one more
    const bool waited = job.seconds_to_first_byte * 2 > job.seconds;
    if (network_.parallel() == 0 && !is_fault && waited) network_.learned_ = parallel_ = std::min(parallel_ + 1, most_);
    job.servers->ended(job.server, job.exchange->arrived(), job.seconds, is_fault ? end.problem->problem() : "");
    if (came > 0) {
      job.etag = job.exchange->etag();
      job.etag_server = job.server;
    }
    job.exchange.reset();
    const bool changed = end.changed, lied = end.problem && end.problem->code() != ErrorCode::Network;
    if (!end.problem || end.of_receiver || (end.absent && request.may_be_absent)) {
      request.absent = end.absent;
      return finish(request, std::move(end.problem));
    }
    job.all_absent = job.all_absent && end.absent;
    job.may_pass = job.may_pass || end.in_a_moment;
    job.wait = std::max(job.wait, end.wait);
    if (tells_more(*end.problem, job.problem)) job.problem = std::move(end.problem);
    if (!prepare_next(job, came, changed, lied)) {
      request.absent = job.all_absent;
      return finish(request, std::move(job.problem));
    }
    waiting_.insert(waiting_.begin(), std::move(job));
  }

  /// Is there a server left to be asked? Then it can be. `came`: bytes in the last try. `changed`: it was another file
  /// than before. `lied`: what came was wrong.
  bool prepare_next(Job& job, std::uint64_t came, bool changed, bool lied) {
    const Request& request = *job.request;
    const std::uint64_t whole = request.range ? request.range->second : request.limit;
    const bool goes_on = request.goes_on && job.received < whole && !lied && !changed;
    const bool begins_anew = job.received > 0 && !goes_on;
    if (begins_anew && !request.again) return false;
    if (came > 0 || changed) ++job.breaks;
    if (job.breaks >= kMostBreaks) return false;
    // where some of it came and there is no other server, the same one goes on
    if ((changed || (goes_on && came > 0)) && !job.servers->choose(job.asked, request.shares)) {
      job.asked[job.server] = false;
      job.not_before = Clock::now() + kFirstWait;
    }
    if (!job.servers->choose(job.asked, request.shares)) {
      if (!job.may_pass || job.all_absent || ++job.round >= kMostRounds) return false;
      job.asked.assign(job.servers->count(), false);
      const std::chrono::milliseconds asked_for = std::chrono::seconds(job.wait);
      job.not_before = Clock::now() + std::max(asked_for, kFirstWait * (1U << (job.round - 1)));
      job.may_pass = false;
      job.wait = 0;
    }
    if (begins_anew) {
      request.again();
      job.received = 0;
      job.etag.clear();
    }
    return true;
  }

  void finish(Request& request, std::optional<Error> problem) {
    request.problem = std::move(problem);
    if (request.ended) request.ended(request.problem);
  }

  void end_all() {
    const Error stopped(ErrorCode::Declined, "interrupted");
    while (!running_.empty()) {
      Job job = take_off(running_.size() - 1);
      job.servers->ended(job.server, job.exchange->arrived(), job.seconds, "");
      finish(*job.request, stopped);
    }
    for (auto& [number, one] : unverified_) finish(*one.job.request, stopped);
    unverified_.clear();
    for (Job& job : waiting_) finish(*job.request, stopped);
    waiting_.clear();
  }

  int time_to_wait() const {
    constexpr std::chrono::milliseconds kLongest{200};
    const auto now = Clock::now();
    auto wait = kLongest;
    const auto until = [&](Clock::time_point then) {
      wait = std::min(wait, std::chrono::duration_cast<std::chrono::milliseconds>(then - now));
    };
    if (running_.size() < parallel_)
      for (const Job& job : waiting_) until(job.not_before);
    for (const Job& job : running_)
      if (job.exchange->is_paused()) until(job.servers->next_start());
    return static_cast<int>(std::max(wait, std::chrono::milliseconds(1)).count());
  }

  Network& network_;
  CURLM* multi_;
  Observer& observer_;
  std::deque<Job> waiting_;
  std::vector<Job> running_;
  std::map<std::size_t, Unverified> unverified_;  // all of it has come; by number, of so many:
  std::size_t added_ = 0;
  std::uint64_t total_ = 0;
  unsigned parallel_;  // transfers at a time, now
  const unsigned most_ = most_transfers();
  // the last member: its thread ends before what it reads
  DigestQueue digests_{most_read_together(), [this] { curl_library().multi_wakeup(multi_); }};
};

Network::~Network() {
  for (void* multi : idle_) curl_library().multi_cleanup(multi);
}

void* Network::take_connections() {
  {
    const std::lock_guard lock(mutex_);
    if (!idle_.empty()) {
      void* const multi = idle_.back();
      idle_.pop_back();
      return multi;
    }
  }
  CURLM* const multi = curl_library().multi_init();
  if (multi == nullptr) throw Error(ErrorCode::Internal, "libcurl does not start");
  curl_library().multi_setopt(multi, CURLMOPT_PIPELINING, static_cast<long>(CURLPIPE_MULTIPLEX));
  curl_library().multi_setopt(multi, CURLMOPT_MAXCONNECTS, static_cast<long>(std::max(parallel_, most_transfers())));
  return multi;
}

void Network::give_connections(void* multi) {
  const std::lock_guard lock(mutex_);
  idle_.push_back(multi);
}

void Network::fetch(std::vector<Request>& requests, Observer& observer, const std::function<bool()>& stop) {
  if (requests.empty()) return;
  void* const multi = take_connections();
  // whatever happens, the handle comes back after all transfers were taken off
  const std::unique_ptr<void, std::function<void(void*)>> back(multi, [this](void* one) { give_connections(one); });
  Fetching(*this, requests, multi, observer).run(stop);
}

std::string Network::text(Request request) {
  std::string text;
  request.sink = [&](std::string_view data) { text += data; };
  request.again = [&] { text.clear(); };
  std::vector<Request> requests;
  requests.push_back(std::move(request));
  Observer silent;
  fetch(requests, silent);
  if (requests[0].problem) throw Error(*requests[0].problem);
  return text;
}

std::unique_ptr<os::ReadableFile> Network::whole_file(const std::string& url, std::uint64_t limit, Observer& observer) {
  auto file = os::open_scratch();
  std::uint64_t size = 0;
  std::vector<Request> requests(1);
  requests[0].url = url;
  requests[0].limit = limit;
  requests[0].pace = pace();
  requests[0].sink = [&](std::string_view data) {
    file->write_at(size, std::as_bytes(std::span(data)));
    size += data.size();
  };
  fetch(requests, observer);
  if (requests[0].problem) throw Error(*requests[0].problem);
  return file;
}

namespace {

class UrlFile final : public os::ReadableFile {
 public:
  UrlFile(Network& network, std::shared_ptr<Servers> servers, std::string path, std::uint64_t size)
      : network_(network), servers_(std::move(servers)), path_(std::move(path)), size_(size) {}
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    const std::uint64_t size = offset >= size_ ? 0 : std::min<std::uint64_t>(into.size(), size_ - offset);
    if (size == 0) return 0;
    Request request;
    request.servers = servers_;
    request.path = path_;
    request.limit = size;
    request.range = std::pair(offset, size);
    request.pace = network_.pace();
    const std::string text = network_.text(std::move(request));
    std::copy(text.begin(), text.end(), reinterpret_cast<char*>(into.data()));
    return text.size();
  }

 private:
  Network& network_;
  std::shared_ptr<Servers> servers_;
  std::string path_;
  std::uint64_t size_;
};

}  // namespace

std::unique_ptr<os::ReadableFile> Network::open(std::shared_ptr<Servers> servers, std::string path,
                                                std::uint64_t size) {
  return std::make_unique<UrlFile>(*this, std::move(servers), std::move(path), size);
}

std::unique_ptr<os::ReadableFile> Network::open(const std::string& url) {
  std::vector<Request> requests(1);
  Request& first_byte = requests[0];
  first_byte.servers = std::make_shared<Servers>(url);
  first_byte.limit = 1;
  first_byte.range = std::pair<std::uint64_t, std::uint64_t>(0, 1);
  first_byte.sink = [](std::string_view) {};
  first_byte.again = [] {};
  first_byte.pace = pace();
  first_byte.only_range = true;
  Observer silent;
  fetch(requests, silent);
  if (first_byte.no_ranges) return nullptr;
  if (first_byte.problem) throw Error(*first_byte.problem);
  return first_byte.whole_size ? open(first_byte.servers, "", *first_byte.whole_size) : nullptr;
}

std::shared_ptr<Servers> Network::servers(const settings::Repository& repository) {
  const std::lock_guard lock(mutex_);
  auto& known = servers_[repository.name + '\0' + join(repository.urls(), "\n")];
  if (!known) known = std::make_shared<Servers>(repository);
  return known;
}

Request Network::request(const settings::Repository& repository, std::string path, std::uint64_t limit) {
  Request request;
  request.servers = servers(repository);
  request.path = std::move(path);
  request.limit = limit;
  request.pace = document_pace();
  return request;
}

}  // namespace hambrel::repo
