#include "repo/download_piece.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <span>

#include "base/assert.h"
#include "repo/index.h"

namespace hambrel::repo {

namespace {

constexpr ByteCount kReadAgain = 8 << 20;  // so large is what is digested when all of it has come
// libcurl hands out 16 KiB at a time: of 300 MiB written so the kernel had 0.55 s to do, of pieces of 256 KiB 0.45 s,
// and whoever waits for a file is woken less often.
constexpr std::size_t kWritten = 256U << 10U;
constexpr std::chrono::milliseconds kLongestUnwritten{50};

std::string part_of(const Package& package, const Offer& offer) {
  return fmt::format("{}.{}{}", cache_path(package), offer.digest.hex().substr(0, 8), kPartEnding);
}
std::string part_of(const Package& package, const Offer& offer, const archive::FrameRange& range) {
  return fmt::format("{}.{}+{}+{}{}", cache_path(package), offer.digest.hex().substr(0, 8), range.offset, range.size,
                     kPartEnding);
}

/// Bytes of it that can be gone on from.
ByteCount rest_in(os::FileReader& root, const std::string& part, ByteCount size) {
  const auto rest = root.stat(part);
  const bool usable = rest && rest->type == os::FileType::Regular && rest->links == 1 && rest->size <= size;
  return usable ? rest->size : 0;
}

}  // namespace

ByteCount rest_of(os::FileReader& root, const Package& package, const Offer& offer) {
  return rest_in(root, part_of(package, offer), offer.size);
}

ByteCount missing_of(os::FileReader& root, const PackageToFetch& wanted) {
  if (!wanted.ranges) return wanted.offer.size - rest_of(root, wanted.package, wanted.offer);
  ByteCount bytes = 0;
  for (const archive::FrameRange& one : *wanted.ranges)
    bytes += one.size - rest_in(root, part_of(wanted.package, wanted.offer, one), one.size);
  return bytes;
}

/// The checks of what comes, in the order in which it comes.
class DownloadPiece::Check {
 public:
  virtual ~Check() = default;
  virtual void update(std::string_view data) = 0;
  /// All has come: is it right?
  virtual bool holds() = 0;
};

class DownloadPiece::WholeCheck final : public Check {
 public:
  explicit WholeCheck(const Digest& digest) : wanted_(digest) {}
  void update(std::string_view data) override { digest_.update(data); }
  bool holds() override { return digest_.finish() == wanted_; }

 private:
  const Digest wanted_;
  Sha256 digest_;
};

/// Each frame of a range by its own digest.
class DownloadPiece::FramesCheck final : public Check {
 public:
  FramesCheck(const archive::Contents& contents, const archive::FrameRange& range)
      : frames_(std::span(contents.frames()).subspan(range.first, range.last - range.first)) {}
  void update(std::string_view data) override {
    while (!data.empty() && next_ < frames_.size()) {
      const archive::Frame& frame = frames_[next_];
      const std::size_t piece = std::min<std::uint64_t>(data.size(), frame.size - done_);
      digest_->update(data.substr(0, piece));
      data.remove_prefix(piece);
      done_ += piece;
      if (done_ < frame.size) continue;
      right_ = right_ && digest_->finish() == frame.digest;
      digest_.emplace();
      done_ = 0;
      ++next_;
    }
  }
  bool holds() override { return right_ && next_ == frames_.size(); }

 private:
  const std::span<const archive::Frame> frames_;
  std::optional<Sha256> digest_{std::in_place};
  std::size_t next_ = 0;    // the frame that comes,
  std::uint64_t done_ = 0;  // and how much of it has come
  bool right_ = true;
};

DownloadPiece::DownloadPiece(os::FileSystem& root, const PackageToFetch& wanted, const archive::FrameRange* range,
                             DownloadWait& shared)
    : offset(range == nullptr ? 0 : range->offset),
      size(range == nullptr ? wanted.offer.size : range->size),
      part(range == nullptr ? part_of(wanted.package, wanted.offer) : part_of(wanted.package, wanted.offer, *range)),
      root_(root),
      wanted_(wanted),
      range_(range),
      shared_(shared),
      left_(rest_in(root, part, size)) {
  if (left_ == 0 && root_.stat(part)) root_.remove_file(part);
  check_ = new_check();
}

DownloadPiece::~DownloadPiece() = default;

void DownloadPiece::take_left() {
  if (left_ == 0) return;
  if (check_) {
    const MessageToRead rest = read_again();
    std::string piece(256 << 10, '\0');
    for (ByteCount at = 0; at < left_; at += piece.size()) {
      piece.resize(std::min<ByteCount>(piece.size(), left_ - at));
      rest.read(at, std::as_writable_bytes(std::span(piece)));
      check_->update(piece);
    }
  }
  came(left_);
  if (left_ < size) return;
  // all of it was left: either it is right, or it comes anew
  const bool is_right = check_ ? check_->holds() : root_.digest(part) == wanted_.offer.digest;
  is_right ? end({}) : begin_anew();
}

MessageToRead DownloadPiece::read_again() const {
  return {size, [this, file = std::shared_ptr(root_.open(part))](std::uint64_t at, std::span<std::byte> into) {
            if (file->read_at(at, into) < into.size())
              throw Error(ErrorCode::Io, "became shorter while it was read", root_.shown(part));
          }};
}

Request DownloadPiece::request(std::shared_ptr<Servers> servers, const std::string& from, const Pace& pace,
                               const std::string& url) {
  Request request;
  request.servers = std::move(servers);
  request.path = from;
  request.pace = pace;
  request.limit = size;
  if (range_ != nullptr) request.range = std::pair(offset, size);
  request.has = arrived_;
  request.goes_on = true;
  request.shares = true;
  request.sink = [this](std::string_view data) { take(data); };
  request.again = [this] { begin_anew(); };
  if (check_) {
    request.verify = [this, url] { require_right(check_->holds(), url); };
  } else {
    request.read_again = [this] { return read_again(); };
    request.verify_digest = [this, url](const Digest& digest) { require_right(digest == wanted_.offer.digest, url); };
  }
  request.ended = [this](const std::optional<Error>& problem) { end(problem); };
  return request;
}

void DownloadPiece::end(std::optional<Error> problem) {
  const auto goes_on = [&] {
    return problem && (problem->code() == ErrorCode::Network || problem->code() == ErrorCode::Declined) && !spoiled_;
  };
  try {
    if (goes_on()) write();
    if (out_) out_->close();
  } catch (const Error& failure) {  // of the disk: that is told first
    problem = failure;
  }
  out_.reset();
  if (problem && problem->code() == ErrorCode::Network && arrived_ > 0)
    problem = Error(problem->code(), problem->problem(), problem->where(),
                    problem->hint() + "; what arrived is kept, the next try continues from there");
  const bool is_kept = goes_on();
  const std::lock_guard lock(shared_.mutex);
  HAMBREL_ASSERT(problem || arrived_ == size, "what came well is whole");
  problem_ = std::move(problem);
  if (problem_ && !is_kept) drop();
  over_ = true;
  shared_.changed.notify_all();
}

std::unique_ptr<DownloadPiece::Check> DownloadPiece::new_check() const {
  if (range_ == nullptr && size <= kReadAgain && sha256_lanes() > 1) return nullptr;
  if (range_ == nullptr) return std::make_unique<WholeCheck>(wanted_.offer.digest);
  return std::make_unique<FramesCheck>(*wanted_.contents, *range_);
}

/// What was written counts for nothing.
void DownloadPiece::begin_anew() {
  if (out_) out_->close();
  out_.reset();
  unwritten_.clear();
  check_ = new_check();
  const std::lock_guard lock(shared_.mutex);
  drop();
  arrived_ = 0;
  came_anew_ = true;
}

void DownloadPiece::require_right(bool is_right, const std::string& url) const {
  if (arrived_ == size && is_right) return;
  throw Error(ErrorCode::Untrusted,
              fmt::format("{} is not the file that {} describes (its digest differs)", wanted_.package.title(),
                          wanted_.offer.repository),
              url,
              "run `hambrel refresh` and try again; if this persists, the repository or its mirror may have "
              "been tampered with");
}

void DownloadPiece::take(std::string_view data) {
  HAMBREL_ASSERT(arrived_ + unwritten_.size() + data.size() <= size, "no more is taken than was asked for");
  if (check_) check_->update(data);
  if (unwritten_.empty()) unwritten_.reserve(std::min<std::size_t>(size - arrived_, kWritten + data.size()));
  unwritten_ += data;
  const bool is_all = arrived_ + unwritten_.size() == size;
  const auto now = std::chrono::steady_clock::now();
  if (!is_all && unwritten_.size() < kWritten && now - last_written_ < kLongestUnwritten) return;
  last_written_ = now;
  write();
}

void DownloadPiece::write() {
  if (unwritten_.empty()) return;
  if (!out_ && arrived_ > 0) out_ = root_.append(part);
  if (!out_) {
    root_.make_directories(os::parent_of(part));
    out_ = root_.create(part, 0644);
  }
  out_->write(unwritten_);
  const ByteCount written = arrived_ + unwritten_.size();
  unwritten_.clear();
  // what is whole waits for its digest closed: there may be more of them than files that may be open
  if (written == size) {
    if (wanted_.is_to_last)
      out_->finish({});
    else
      out_->close();
    out_.reset();
    unwritten_.shrink_to_fit();
  }
  came(written);
}

void DownloadPiece::came(ByteCount now) {
  const std::lock_guard lock(shared_.mutex);
  arrived_ = now;
  shared_.changed.notify_all();
}

void DownloadPiece::drop() {
  try {
    if (root_.stat(part)) root_.remove_file(part);
  } catch (const Error&) {  // what made it go is told; this is only its rest
  }
}

}  // namespace hambrel::repo
