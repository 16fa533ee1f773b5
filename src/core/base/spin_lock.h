// A lock for what takes a few nanoseconds and is seldom asked for by two at once. It never sleeps for long: whoever
// waits lets others run after some tries.
#pragma once

#include <atomic>
#include <thread>

namespace hambrel {

class SpinLock {
 public:
  void lock() {
    for (unsigned tries = 0; held_.exchange(true, std::memory_order_acquire); ++tries)
      if (tries > kTries) std::this_thread::yield();
  }
  void unlock() { held_.store(false, std::memory_order_release); }

 private:
  static constexpr unsigned kTries = 200;
  std::atomic<bool> held_ = false;
};

}  // namespace hambrel
