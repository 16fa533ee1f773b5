#include "os/early_writer.h"

#include <unistd.h>

#include <algorithm>
#include <system_error>
#include <utility>

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
    if (gathered_ < enough_ || next_ || busy_) return;
    gathered_ = 0;
    enough_ = std::min(2 * enough_, kMost);
    try {
      if (!thread_.joinable()) thread_ = std::thread([this] { run(); });
    } catch (const std::system_error&) {  // no thread is to be had
      return;
    }
    next_ = std::move(file);
  }
  begins_.notify_one();
}

void EarlyWriter::settle() {
  std::unique_lock lock(mutex_);
  next_.reset();
  gathered_ = 0, enough_ = kFirst;
  done_.wait(lock, [&] { return !busy_; });
}

void EarlyWriter::run() {
  std::unique_lock lock(mutex_);
  while (true) {
    begins_.wait(lock, [&] { return ends_ || next_; });
    if (ends_) return;
    busy_ = true;
    {
      const Handle file = std::move(*std::exchange(next_, std::nullopt));
      lock.unlock();
      ::syncfs(file.get());
    }
    lock.lock();
    busy_ = false;
    done_.notify_all();
  }
}

}  // namespace hambrel::os
