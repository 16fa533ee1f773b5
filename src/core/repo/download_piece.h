// A stretch of a package file on its way, or all of it: in a part file of its own.
//
// Invariant: the fetching thread alone writes it and tells it how it ends; others look at it with the mutex locked.
#pragma once

#include <atomic>
#include <chrono>
#include <condition_variable>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>

#include "archive/frame_ranges.h"
#include "base/error.h"
#include "os/file_system.h"
#include "repo/download.h"
#include "repo/transfer.h"

namespace hambrel::repo {

/// Part files end so.
inline constexpr std::string_view kPartEnding = ".part";

/// Bytes of a whole package file that an interrupted fetch has left.
ByteCount rest_of(os::FileReader& root, const Package& package, const Offer& offer);
/// Bytes that are to be fetched: without what an interrupted fetch of just this has left.
ByteCount missing_of(os::FileReader& root, const PackageToFetch& wanted);

/// What all who wait for a file share.
struct DownloadWait {
  std::mutex mutex;
  std::condition_variable changed;
};

class DownloadPiece {
 public:
  /// `range`: of `wanted`, which stays where it is; nullptr: all of the file.
  DownloadPiece(os::FileSystem& root, const PackageToFetch& wanted, const archive::FrameRange* range,
                DownloadWait& shared);
  ~DownloadPiece();
  const ByteCount offset, size;  // in the package file
  const std::string part;        // the part file
  /// Bytes that an earlier try has left.
  ByteCount left() const { return left_; }

  // The fetching thread: all that is left is taken first, then what comes; at the end it is told the problem, if any.

  void take_left();
  /// For the rest of it.
  Request request(std::shared_ptr<Servers> servers, const std::string& from, const Pace& pace, const std::string& url);
  void end(std::optional<Error> problem);
  /// Nothing of it is to stay if it ends before it is whole.
  void spoil() { spoiled_ = true; }

  // All others, with the mutex locked.

  bool over() const { return over_; }
  ByteCount arrived() const { return arrived_; }
  ByteCount fetched() const { return arrived_ - std::min(arrived_, left_); }
  const std::optional<Error>& problem() const { return problem_; }
  /// What had come of it was given up, and another server was asked.
  bool came_anew() const { return came_anew_; }

 private:
  class Check;
  class WholeCheck;
  class FramesCheck;
  std::unique_ptr<Check> new_check() const;
  void begin_anew();
  void require_right(bool is_right, const std::string& url) const;
  MessageToRead read_again() const;
  void take(std::string_view data);
  void write();
  void came(ByteCount now);
  void drop();

  os::FileSystem& root_;
  const PackageToFetch& wanted_;
  const archive::FrameRange* const range_;
  DownloadWait& shared_;
  const ByteCount left_;
  std::unique_ptr<os::WritableFile> out_;
  std::string unwritten_;  // it has come after all that was written
  std::chrono::steady_clock::time_point last_written_;
  std::unique_ptr<Check> check_;  // of what comes; nothing: all of it is read again when it is there
  std::atomic<bool> spoiled_ = false;
  ByteCount arrived_ = 0;  // from here on: under the mutex, where another thread than the fetching one asks
  bool over_ = false, came_anew_ = false;
  std::optional<Error> problem_;
};

}  // namespace hambrel::repo
