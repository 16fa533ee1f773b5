#include "os/early_writer.h"

#include <fcntl.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>

namespace hambrel::os {

namespace {

constexpr std::uint64_t kAtOnce = 16 << 10;    // bytes; smaller files are better written together
constexpr std::uint64_t kTogether = 80 << 20;  // bytes after which all that has gathered is written, small files too
constexpr std::uint64_t kOfAFile = 8 << 10;    // what a file's own description and name count as
constexpr std::size_t kMost = 200;

}  // namespace

EarlyWriter::EarlyWriter() : most_(kMost) {
  rlimit limit{};
  if (::getrlimit(RLIMIT_NOFILE, &limit) == 0) most_ = std::min<std::size_t>(kMost, limit.rlim_cur / 4);
}

EarlyWriter::~EarlyWriter() {
  {
    const std::lock_guard lock(mutex_);
    ends_ = true;
    waiting_.clear();
  }
  more_.notify_one();
  if (thread_.joinable()) thread_.join();
}

void EarlyWriter::take(Handle file, std::uint64_t size) {
  {
    const std::lock_guard lock(mutex_);
    gathered_ += size + kOfAFile;
    const bool all = gathered_ >= kTogether;
    if ((size < kAtOnce && !all) || waiting_.size() >= most_) return;
    if (all) gathered_ = 0;
    waiting_.push_back({std::move(file), all});
    if (!thread_.joinable()) thread_ = std::thread([this] { run(); });
  }
  more_.notify_one();
}

void EarlyWriter::settle() {
  std::unique_lock lock(mutex_);
  waiting_.clear();
  gathered_ = 0;
  idle_.wait(lock, [&] { return !busy_; });
}

void EarlyWriter::run() {
  std::unique_lock lock(mutex_);
  while (true) {
    more_.wait(lock, [&] { return ends_ || !waiting_.empty(); });
    if (ends_) return;
    busy_ = true;
    {
      const Waiting next = std::move(waiting_.front());
      waiting_.pop_front();
      lock.unlock();
      if (next.all)
        ::syncfs(next.file.get());
      else
        ::sync_file_range(next.file.get(), 0, 0, SYNC_FILE_RANGE_WRITE);
    }
    lock.lock();
    busy_ = false;
    if (waiting_.empty()) idle_.notify_all();
  }
}

}  // namespace hambrel::os
