// Writes complete files to the disk, by a thread of its own, while more of them are made.
//
// What is written early need not be waited for in the sync at the end. The makers must never wait for the disk instead:
// a device that is flushing its cache takes nothing else for tenths of a second.
//
// Invariants: all it does is a wish, and a failure is not told: the sync that counts tells it. take() does not wait for
// the disk; what there is no room for is left to the sync. After settle() no file is held open: one that is held open
// to be written to can't be executed.
#pragma once

#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <mutex>
#include <thread>

#include "os/handle.h"

namespace hambrel::os {

class EarlyWriter {
 public:
  EarlyWriter();
  ~EarlyWriter();
  EarlyWriter(const EarlyWriter&) = delete;
  EarlyWriter& operator=(const EarlyWriter&) = delete;

  /// A file of `size` bytes, to which nothing will be written any more.
  void take(Handle file, std::uint64_t size);
  /// Lets go of what was not begun and waits for what was.
  void settle();

 private:
  struct Waiting {
    Handle file;
    bool all;  // its whole file system
  };
  void run();

  std::size_t most_;  // files held open
  std::mutex mutex_;
  std::condition_variable more_, idle_;
  std::deque<Waiting> waiting_;
  std::uint64_t gathered_ = 0;  // since a whole file system was last asked for
  bool busy_ = false, ends_ = false;
  std::thread thread_;  // from the first file on
};

}  // namespace hambrel::os
