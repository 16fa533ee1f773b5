#include "repo/download_queue.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <mutex>

#include "base/assert.h"
#include "base/text.h"
#include "repo/curl_library.h"
#include "repo/download_piece.h"
#include "repo/index.h"

namespace hambrel::repo {

namespace {

constexpr std::chrono::milliseconds kAsk{100};  // how often somebody who waits asks whether to stop

const settings::Repository& repository_of(const PackageToFetch& wanted,
                                          const std::vector<settings::Repository>& repositories) {
  for (const settings::Repository& one : repositories)
    if (one.name == wanted.offer.repository) return one;
  throw Error(ErrorCode::NotFound, fmt::format("the repository {} is gone", wanted.offer.repository),
              wanted.package.title(), "run `hambrel refresh`");
}

/// What is wrong with what came is told of the server that sent it. The request stays where it is.
void tell_who_lied(Request& request) {
  const auto told = [&request](const auto& verify) {
    try {
      verify();
    } catch (const Error& problem) {
      throw Error(problem.code(), problem.problem(), shown_url(request.from), problem.hint());
    }
  };
  if (request.verify) request.verify = [told, verify = request.verify] { told(verify); };
  if (request.verify_digest)
    request.verify_digest = [told, verify = request.verify_digest](const Digest& digest) {
      told([&] { verify(digest); });
    };
}

Error stopped() { return Error(ErrorCode::Declined, "interrupted; nothing was changed"); }

}  // namespace

/// One package file: whole, or the ranges of it that are needed, each a piece.
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
        wanted_(wanted) {
    if (is_whole()) {
      pieces_.push_back(std::make_unique<DownloadPiece>(root_, wanted_, nullptr, shared_));
      return;
    }
    for (const archive::FrameRange& range : *wanted_.ranges)
      pieces_.push_back(std::make_unique<DownloadPiece>(root_, wanted_, &range, shared_));
  }
  const std::string path;
  const ByteCount size;
  /// Where it comes from, as it is shown: the first of the servers.
  const std::string& url() const { return url_; }
  /// Is this where it is on one of the servers, as it is shown?
  bool is_at(const std::string& url) const {
    for (std::size_t i = 0; i < servers_->count(); ++i)
      if (shown_url(servers_->url(i, from_)) == url) return true;
    return false;
  }
  /// Bytes that an earlier try has left, and those that are to come.
  ByteCount left() const {
    return sum([](const DownloadPiece& one) { return one.left(); });
  }
  ByteCount to_come() const {
    return sum([](const DownloadPiece& one) { return one.size - one.left(); });
  }

  // The fetching thread.

  void take_left() {
    for (const auto& piece : pieces_) piece->take_left();
  }
  /// For what is left to come of it.
  void ask(std::vector<Request>& requests) {
    for (const auto& piece : pieces_)
      if (!piece->over()) requests.push_back(piece->request(servers_, from_, pace_, url_));
  }
  void end(const std::optional<Error>& problem) {
    for (const auto& piece : pieces_)
      if (!piece->over()) piece->end(problem);
  }

  // All others.

  /// Bytes from its start that can be read without waiting, as far as they are to come; all of them when no more will.
  ByteCount arrived() const {
    const std::lock_guard lock(shared_.mutex);
    for (const auto& piece : pieces_)
      if (!piece->over()) return piece->offset + piece->arrived();
    return size;
  }
  ByteCount fetched() const {
    const std::lock_guard lock(shared_.mutex);
    return sum([](const DownloadPiece& one) { return one.fetched(); });
  }
  bool over() const {
    const std::lock_guard lock(shared_.mutex);
    return is_over();
  }
  std::optional<Error> problem() const {
    const std::lock_guard lock(shared_.mutex);
    return first_problem();
  }
  /// Waits until all of it is over.
  void await(const std::function<bool()>& stop_asked) const {
    wait([&] { return is_over(); }, stop_asked);
  }
  /// Bytes of it, when they are there.
  std::size_t read(ByteCount offset, std::span<std::byte> into, const std::function<bool()>& stop_asked) const {
    const DownloadPiece& piece = piece_with(offset, into.size());
    const ByteCount at = offset - piece.offset;
    for (;;) {
      wait([&] { return piece.over() || piece.arrived() >= at + into.size(); }, stop_asked);
      // opened each time: there may be thousands of them
      if (const auto file = open(piece, at + into.size())) return file->read_at(at, into);
    }
  }
  void spoil() {
    for (const auto& piece : pieces_) piece->spoil();
  }
  bool came_anew() const {
    const std::lock_guard lock(shared_.mutex);
    return std::any_of(pieces_.begin(), pieces_.end(), [](const auto& one) { return one->came_anew(); });
  }
  Servers& servers() const { return *servers_; }
  /// Gives it its name, if it is whole.
  void name() {
    const std::lock_guard lock(shared_.mutex);
    if (!is_whole() || named_ || !is_over() || first_problem()) return;
    HAMBREL_ASSERT(pieces_.size() == 1, "a whole file comes in one piece");
    const std::string& part = pieces_.front()->part;
    root_.rename(part, path);
    named_ = true;
  }
  /// Ranges, of this try and of earlier ones, are of no use any more.
  void drop_ranges() {
    if (is_whole()) return;
    const std::string directory(os::parent_of(path));
    if (!root_.stat(directory)) return;
    const std::string of_it = std::string(os::name_of(path)) + ".";
    for (const std::string& name : root_.list(directory))
      if (name.starts_with(of_it) && name.ends_with(kPartEnding)) root_.remove_file(os::join_path(directory, name));
    if (root_.list(directory).empty()) root_.remove_directory(directory);
  }

 private:
  bool is_whole() const { return !wanted_.ranges; }
  template <typename Of>
  ByteCount sum(Of of) const {
    ByteCount bytes = 0;
    for (const auto& piece : pieces_) bytes += of(*piece);
    return bytes;
  }
  bool is_over() const {
    return std::all_of(pieces_.begin(), pieces_.end(), [](const auto& one) { return one->over(); });
  }
  std::optional<Error> first_problem() const {
    for (const auto& piece : pieces_)
      if (piece->problem()) return piece->problem();
    return std::nullopt;
  }
  const DownloadPiece& piece_with(ByteCount offset, ByteCount bytes) const {
    for (const auto& piece : pieces_)
      if (piece->offset <= offset && offset + bytes <= piece->offset + piece->size) return *piece;
    throw Error(ErrorCode::Internal, fmt::format("{} bytes at {} were not asked for", bytes, offset), url_);
  }
  template <typename Until>
  void wait(Until until, const std::function<bool()>& stop_asked) const {
    using Clock = std::chrono::steady_clock;
    std::unique_lock lock(shared_.mutex);
    for (auto asked = Clock::now(); !until();) {
      shared_.changed.wait_for(lock, kAsk);
      if (Clock::now() - asked < kAsk) continue;
      lock.unlock();  // it may ask how far the files are
      if (stop_asked()) throw stopped();
      asked = Clock::now();
      lock.lock();
    }
    if (const auto problem = first_problem()) throw Error(*problem);
  }
  /// Where so many bytes of a piece can be read. Nothing: it came anew in the meantime.
  std::unique_ptr<os::ReadableFile> open(const DownloadPiece& piece, ByteCount bytes) const {
    const std::lock_guard lock(shared_.mutex);
    if (piece.problem()) throw Error(*piece.problem());
    return piece.over() || piece.arrived() >= bytes ? root_.open(named_ ? path : piece.part) : nullptr;
  }

  const std::shared_ptr<Servers> servers_;
  const std::string from_;
  const Pace pace_;
  const std::string url_;
  os::FileSystem& root_;
  const PackageToFetch wanted_;
  mutable DownloadWait shared_;
  std::vector<std::unique_ptr<DownloadPiece>> pieces_;  // ascending
  bool named_ = false;                                  // under the mutex
};

class DownloadQueue::Reader final : public os::ReadableFile {
 public:
  Reader(std::shared_ptr<const File> file, std::function<bool()> stop_asked)
      : file_(std::move(file)), stop_asked_(std::move(stop_asked)) {}
  std::uint64_t size() const override { return file_->size; }
  std::uint64_t arrived() const override { return file_->arrived(); }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    if (offset >= file_->size) return 0;
    return file_->read(offset, into.first(std::min<std::uint64_t>(into.size(), file_->size - offset)), stop_asked_);
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
    bytes_ += file->to_come();
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
    for (const auto& file : files_) file->name();
  } catch (const Error&) {  // the cache is nothing that has to be complete
  }
}

void DownloadQueue::fetch(const std::function<bool()>& stop) {
  const auto end_all = [&](const std::optional<Error>& problem) {
    for (const auto& file : files_)
      if (!file->over()) file->end(problem);
  };
  try {
    for (const auto& file : files_) file->take_left();
    Observer silent;
    for (const auto& file : files_) {
      file->ask(requests_);
      asked_.resize(requests_.size(), file.get());
    }
    HAMBREL_ASSERT(asked_.size() == requests_.size(), "each request is for one of the files");
    for (Request& request : requests_) tell_who_lied(request);
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

ByteCount DownloadQueue::settle(Observer& observer) {
  if (files_.empty()) return 0;
  observer.begin("fetching packages", bytes_, Observer::Unit::Bytes);
  try {
    for (const auto& file : files_) {
      const auto ask = [&] {
        observer.at(file->path);
        observer.progress(fetched());
        return stop_asked_();
      };
      while (!file->over()) {
        try {
          file->await(ask);
        } catch (const Error& problem) {
          if (!file->over()) throw;  // it is to stop
        }
      }
      file->name();
    }
  } catch (...) {
    observer.end();
    throw;
  }
  observer.end();
  for (const auto& file : files_)
    if (const auto problem = file->problem()) throw *problem;
  return fetched();
}

void DownloadQueue::drop_ranges() {
  for (const auto& file : files_) file->drop_ranges();
}

bool DownloadQueue::spoil(const std::string& url) {
  const auto found = std::find_if(files_.begin(), files_.end(), [&](const auto& file) { return file->is_at(url); });
  if (found == files_.end()) return false;
  (*found)->spoil();
  thread_.request_stop();
  if (thread_.joinable()) thread_.join();
  // what was read may be what was given up since: then the server that is asked now is not to blame
  if ((*found)->came_anew()) return true;
  bool has_other = false;
  for (std::size_t i = 0; i < asked_.size(); ++i)
    if (asked_[i] == found->get()) has_other = (*found)->servers().blame(requests_[i].from) || has_other;
  return (*found)->left() > 0 || has_other;
}

}  // namespace hambrel::repo
