// Has the disk write what lies ready for it while more is made, by a thread of its own.
//
// What is written early need not be waited for in the sync at the end. The makers must never wait for the disk instead:
// a device that is flushing its cache takes nothing else for tenths of a second.
//
// Invariants: what fails is never lost, settle() tells it: the kernel tells a failure to write once, and may have told
// it here. take() does not wait for the disk. After settle() no file is held open: one that is held open to be written
// to can't be executed.
#pragma once

#include <condition_variable>
#include <cstdint>
#include <mutex>
#include <optional>
#include <thread>

#include "os/handle.h"

namespace hambrel::os {

class EarlyWriter {
 public:
  EarlyWriter();
  ~EarlyWriter();
  EarlyWriter(const EarlyWriter&) = delete;
  EarlyWriter& operator=(const EarlyWriter&) = delete;

  /// A file of `size` bytes, to which nothing will be written any more. When enough has come together its file system
  /// is synced, unless that is being done already: one sync of much costs less than asking for each file.
  void take(Handle file, std::uint64_t size);
  /// Waits for what was begun. Returns the errno of the first failure since it was last asked, 0 for none.
  [[nodiscard]] int settle();

 private:
  void run();
  bool starts();
  void note(int problem);

  std::mutex mutex_;
  std::condition_variable begins_, done_;
  std::uint64_t gathered_ = 0;  // bytes since a sync was last asked for
  std::uint64_t enough_;        // of them, for the next one
  std::optional<Handle> next_;  // whose file system is to be synced
  int problem_ = 0;             // the first errno
  bool busy_ = false, ends_ = false;
  std::thread thread_;  // once it is needed
};

}  // namespace hambrel::os
