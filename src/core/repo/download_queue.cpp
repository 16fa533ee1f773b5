#include "repo/download_queue.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <mutex>

#include "base/text.h"
#include "repo/curl_library.h"
#include "repo/index.h"

namespace hambrel::repo {

namespace {

constexpr ByteCount kUntilItIsOver = ~0ULL;     // not only until all bytes have come: they are checked then
constexpr std::chrono::milliseconds kAsk{100};  // how often somebody who waits asks whether to stop

const settings::Repository& repository_of(const PackageToFetch& wanted,
                                          const std::vector<settings::Repository>& repositories) {
  for (const settings::Repository& one : repositories)
    if (one.name == wanted.offer.repository) return one;
  throw Error(ErrorCode::NotFound, fmt::format("the repository {} is gone", wanted.offer.repository),
              wanted.package.title(), "run `hambrel refresh`");
}

std::string part_of(const Package& package, const Offer& offer) {
  return fmt::format("{}.{}.part", cache_path(package), offer.digest.hex().substr(0, 8));
}

Error stopped() { return Error(ErrorCode::Declined, "interrupted; nothing was changed"); }

}  // namespace

ByteCount rest_of(os::FileReader& root, const Package& package, const Offer& offer) {
  const auto rest = root.stat(part_of(package, offer));
  const bool usable = rest && rest->type == os::FileType::Regular && rest->links == 1 && rest->size <= offer.size;
  return usable ? rest->size : 0;
}

/// One file: written by the fetching thread, awaited by all others.
class DownloadQueue::File {
 public:
  File(os::FileSystem& root, const PackageToFetch& wanted, std::shared_ptr<Servers> servers, const Pace& pace)
      : path(cache_path(wanted.package)),
        size(wanted.offer.size),
        servers_(std::move(servers)),
        from_(package_url_path(wanted.package)),
        pace_(pace),
        url_(shown_url(servers_->url(0, from_))),
        root_(root),
        wanted_(wanted),
        part_(part_of(wanted.package, wanted.offer)),
        left_(rest_of(root, wanted.package, wanted.offer)) {
    if (left_ == 0 && root_.stat(part_)) root_.remove_file(part_);
  }
  const std::string path;
  const ByteCount size;
  /// Where it comes from, as it is shown: the first of the servers.
  const std::string& url() const { return url_; }
  /// Bytes that an earlier try has left.
  ByteCount left() const { return left_; }

  // The fetching thread: all that is left is taken first, then what comes; at the end it is told the problem, if any.

  void take_left() {
    if (left_ == 0) return;
    const auto in = root_.open(part_);
    std::string piece(256 << 10, '\0');
    for (ByteCount at = 0; at < left_;) {
      const auto into = std::as_writable_bytes(std::span(piece)).first(std::min<ByteCount>(piece.size(), left_ - at));
      const std::size_t got = in->read_at(at, into);
      if (got == 0) throw Error(ErrorCode::Io, "became shorter while it was read", root_.shown(part_));
      digest_->update(std::string_view(piece).substr(0, got));
      came(at += got);
    }
  }
  /// All of it was left: either it is the file, or it comes anew.
  void end_with_left() {
    try {
      require_digest();
    } catch (const Error&) {
      return begin_anew();
    }
    end({});
  }
  /// The rest of it.
  Request request() {
    Request request;
    request.servers = servers_;
    request.path = from_;
    request.pace = pace_;
    request.limit = size;
    request.has = arrived_;
    request.goes_on = true;
    request.shares = true;
    request.sink = [this](std::string_view data) { take(data); };
    request.again = [this] { begin_anew(); };
    request.verify = [this] { require_digest(); };
    request.ended = [this](const std::optional<Error>& problem) { end(problem); };
    return request;
  }
  /// What was written counts for nothing.
  void begin_anew() {
    if (out_) out_->close();
    out_.reset();
    digest_.emplace();
    const std::lock_guard lock(mutex_);
    drop();
    arrived_ = 0;
  }
  void require_digest() {
    if (arrived_ == size && digest_->finish() == wanted_.offer.digest) return;
    throw Error(ErrorCode::Untrusted,
                fmt::format("{} is not the file that {} describes (its digest differs)", wanted_.package.title(),
                            wanted_.offer.repository),
                url_,
                "run `hambrel refresh` and try again; if this persists, the repository or its mirror may have "
                "been tampered with");
  }
  void take(std::string_view data) {
    if (!out_ && arrived_ > 0) out_ = root_.append(part_);
    if (!out_) {
      root_.make_directories(os::parent_of(part_));
      out_ = root_.create(part_, 0644);
    }
    out_->write(data);
    digest_->update(data);
    came(arrived_ + data.size());
  }
  void end(std::optional<Error> problem) {
    try {
      if (out_) out_->close();
    } catch (const Error& failure) {
      if (!problem) problem = failure;
    }
    out_.reset();
    const bool goes_on = problem && (problem->code() == ErrorCode::Network || problem->code() == ErrorCode::Declined);
    if (problem && problem->code() == ErrorCode::Network && arrived_ > 0)
      problem = Error(problem->code(), problem->problem(), problem->where(),
                      problem->hint() + "; what arrived is kept, the next try continues from there");
    const std::lock_guard lock(mutex_);
    problem_ = std::move(problem);
    if (problem_ && (!goes_on || spoiled_)) drop();
    over_ = true;
    changed_.notify_all();
  }

  // All others.

  /// Bytes from its start that can be read without waiting; all of them when no more will come.
  ByteCount arrived() const {
    const std::lock_guard lock(mutex_);
    return over_ ? size : arrived_;
  }
  ByteCount fetched() const {
    const std::lock_guard lock(mutex_);
    return arrived_ - std::min(arrived_, left_);
  }
  bool over() const {
    const std::lock_guard lock(mutex_);
    return over_;
  }
  std::optional<Error> problem() const {
    const std::lock_guard lock(mutex_);
    return problem_;
  }
  void await(ByteCount bytes, const std::function<bool()>& stop_asked) const {
    using Clock = std::chrono::steady_clock;
    std::unique_lock lock(mutex_);
    for (auto asked = Clock::now(); !over_ && arrived_ < bytes;) {
      changed_.wait_for(lock, kAsk);
      if (Clock::now() - asked < kAsk) continue;
      lock.unlock();  // it may ask how far the files are
      if (stop_asked()) throw stopped();
      asked = Clock::now();
      lock.lock();
    }
    if (problem_) throw *problem_;
  }
  /// Where so many bytes of it can be read. Nothing: it came anew in the meantime.
  std::unique_ptr<os::ReadableFile> open(ByteCount bytes) const {
    const std::lock_guard lock(mutex_);
    if (problem_) throw Error(*problem_);
    return over_ || arrived_ >= bytes ? root_.open(named_ ? path : part_) : nullptr;
  }
  void spoil() { spoiled_ = true; }
  Servers& servers() const { return *servers_; }
  /// Gives it its name, if it is whole.
  void name(bool sync) {
    const std::lock_guard lock(mutex_);
    if (named_ || !over_ || problem_) return;
    if (sync) root_.append(part_)->sync();
    root_.rename(part_, path);
    named_ = true;
  }

 private:
  void came(ByteCount now) {
    const std::lock_guard lock(mutex_);
    arrived_ = now;
    changed_.notify_all();
  }
  void drop() {
    try {
      if (root_.stat(part_)) root_.remove_file(part_);
    } catch (const Error&) {  // what made it go is told; this is only its rest
    }
  }

  const std::shared_ptr<Servers> servers_;
  const std::string from_;
  const Pace pace_;
  const std::string url_;
  os::FileSystem& root_;
  const PackageToFetch wanted_;
  const std::string part_;
  const ByteCount left_;
  std::unique_ptr<os::WritableFile> out_;
  std::optional<Sha256> digest_{std::in_place};
  std::atomic<bool> spoiled_ = false;
  mutable std::mutex mutex_;
  mutable std::condition_variable changed_;
  ByteCount arrived_ = 0;  // from here on: under the mutex, where another thread than the fetching one asks
  bool over_ = false, named_ = false;
  std::optional<Error> problem_;
};

class DownloadQueue::Reader final : public os::ReadableFile {
 public:
  Reader(std::shared_ptr<const File> file, std::function<bool()> stop_asked)
      : file_(std::move(file)), stop_asked_(std::move(stop_asked)) {}
  std::uint64_t size() const override { return file_->size; }
  std::uint64_t arrived() const override { return file_->arrived(); }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    if (offset >= file_->size) return 0;
    const ByteCount end = offset + std::min<std::uint64_t>(into.size(), file_->size - offset);
    for (;;) {
      file_->await(end, stop_asked_);
      // each time: there may be thousands of them
      if (const auto file = file_->open(end)) return file->read_at(offset, into);
    }
  }

 private:
  std::shared_ptr<const File> file_;
  std::function<bool()> stop_asked_;
};

DownloadQueue::DownloadQueue(os::FileSystem& root, Network& network, const std::vector<PackageToFetch>& wanted,
                             const std::vector<settings::Repository>& repositories, std::function<bool()> stop_asked)
    : root_(root), network_(network), stop_asked_(std::move(stop_asked)) {
  for (const PackageToFetch& one : wanted) {
    if (in_cache(root, one.package, one.offer)) continue;
    const auto file =
        std::make_shared<File>(root, one, network.servers(repository_of(one, repositories)), network.pace());
    if (!by_path_.emplace(file->path, files_.size()).second) continue;
    files_.push_back(file);
    bytes_ += file->size - file->left();
  }
  if (files_.empty()) return;
  curl_library();  // its absence is told here
  try {
    thread_ = std::jthread([this](const std::stop_token& stop) { fetch([&] { return stop.stop_requested(); }); });
  } catch (const std::system_error&) {  // no thread is available: all of it comes now, instead of beside what reads it
    fetch(stop_asked_);
  }
}

DownloadQueue::~DownloadQueue() {
  thread_.request_stop();
  if (thread_.joinable()) thread_.join();
  try {
    for (const auto& file : files_) file->name(false);
  } catch (const Error&) {  // the cache is nothing that has to be complete
  }
}

void DownloadQueue::fetch(const std::function<bool()>& stop) {
  const auto end_all = [&](const std::optional<Error>& problem) {
    for (const auto& file : files_)
      if (!file->over()) file->end(problem);
  };
  try {
    for (const auto& file : files_) {
      file->take_left();
      if (file->left() == file->size) file->end_with_left();
    }
    Observer silent;
    for (const auto& file : files_) {
      if (file->over()) continue;
      requests_.push_back(file->request());
      asked_.push_back(file.get());
    }
    network_.fetch(requests_, silent, stop);
  } catch (...) {
    end_all(current_error());
  }
}

const std::string* DownloadQueue::url_of(const Package& package) const {
  const auto found = by_path_.find(cache_path(package));
  return found == by_path_.end() ? nullptr : &files_[found->second]->url();
}

std::unique_ptr<os::ReadableFile> DownloadQueue::open(const Package& package) const {
  return std::make_unique<Reader>(files_[by_path_.at(cache_path(package))], stop_asked_);
}

ByteCount DownloadQueue::fetched() const {
  ByteCount bytes = 0;
  for (const auto& file : files_) bytes += file->fetched();
  return bytes;
}

ByteCount DownloadQueue::settle(Observer& observer, bool sync) {
  if (files_.empty()) return 0;
  observer.begin("fetching packages", bytes_, Observer::Unit::Bytes);
  try {
    for (const auto& [path, number] : by_path_) {
      const auto& file = files_[number];
      const auto ask = [&, &path = path] {
        observer.at(path);
        observer.progress(fetched());
        return stop_asked_();
      };
      while (!file->over()) {
        try {
          file->await(kUntilItIsOver, ask);
        } catch (const Error& problem) {
          if (!file->over()) throw;  // it is to stop
        }
      }
    }
  } catch (...) {
    observer.end();
    throw;
  }
  observer.end();
  for (const auto& file : files_) file->name(sync);
  for (const auto& file : files_)
    if (const auto problem = file->problem()) throw *problem;
  return fetched();
}

bool DownloadQueue::spoil(const std::string& url) {
  const auto found = std::find_if(files_.begin(), files_.end(), [&](const auto& file) { return file->url() == url; });
  if (found == files_.end()) return false;
  (*found)->spoil();
  thread_.request_stop();
  if (thread_.joinable()) thread_.join();
  const auto asked = std::find(asked_.begin(), asked_.end(), found->get());
  const bool has_other = asked != asked_.end() &&
                         (*found)->servers().blame(requests_[static_cast<std::size_t>(asked - asked_.begin())].from);
  return (*found)->left() > 0 || has_other;
}

}  // namespace hambrel::repo
