#include "os/early_writer.h"

#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <system_error>
#include <utility>

#include "base/parallel.h"

namespace hambrel::os {

namespace {

constexpr std::uint64_t kFirst = 4 << 20, kMost = 32 << 20;  // bytes: enough for the first sync; for each later one
constexpr std::uint64_t kOfAFile = 8 << 10;                  // bytes: what its own description and name count as

}  // namespace

EarlyWriter::EarlyWriter() : enough_(kFirst) {}

EarlyWriter::~EarlyWriter() {
  {
    const std::lock_guard lock(mutex_);
    ends_ = true;
  }
  begins_.notify_one();
  if (thread_.joinable()) thread_.join();
}

void EarlyWriter::take(Handle file, std::uint64_t size) {
  {
    const std::lock_guard lock(mutex_);
    gathered_ += size + kOfAFile;
    const bool due = gathered_ >= enough_ && !next_ && !busy_;
    if (due && starts()) {
      gathered_ = 0;
      enough_ = std::min(2 * enough_, kMost);
      next_ = std::move(file);
    }
  }
  if (file.get() < 0) return begins_.notify_one();
  note(file.close());
}

/// Is there a thread that syncs? Under the mutex.
bool EarlyWriter::starts() {
  try {
    if (!thread_.joinable()) thread_ = begin_thread([this] { run(); });
    return true;
  } catch (const std::system_error&) {  // no thread is available: the sync at the end does it all
    return false;
  }
}

void EarlyWriter::note(int problem) {
  if (problem == 0) return;
  const std::lock_guard lock(mutex_);
  if (problem_ == 0) problem_ = problem;
}

int EarlyWriter::settle() {
  std::optional<Handle> left;
  {
    std::unique_lock lock(mutex_);
    left = std::exchange(next_, std::nullopt);
    gathered_ = 0;
    enough_ = kFirst;
    done_.wait(lock, [&] { return !busy_; });
  }
  if (left) note(left->close());
  const std::lock_guard lock(mutex_);
  return std::exchange(problem_, 0);
}

void EarlyWriter::run() {
  std::unique_lock lock(mutex_);
  while (true) {
    begins_.wait(lock, [&] { return ends_ || next_; });
    if (ends_) return;
    busy_ = true;
    Handle file = std::move(*std::exchange(next_, std::nullopt));
    lock.unlock();
    const int problem = ::syncfs(file.get()) == 0 ? 0 : errno;
    const int closing = file.close();
    note(problem != 0 ? problem : closing);
    lock.lock();
    busy_ = false;
    done_.notify_all();
  }
}

}  // namespace hambrel::os
