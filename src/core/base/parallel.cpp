#include "base/parallel.h"

#include <algorithm>
#include <atomic>
#include <exception>
#include <future>
#include <mutex>
#include <vector>

namespace hambrel {

void by_threads(std::size_t threads, const std::function<void()>& work) {
  std::vector<std::future<void>> others;
  for (std::size_t i = 1; i < threads; ++i) others.push_back(std::async(kThread, work));
  std::exception_ptr problem;
  const auto keep_first = [&](const auto& run) {
    try {
      run();
    } catch (...) {
      if (!problem) problem = std::current_exception();
    }
  };
  keep_first(work);
  for (auto& other : others) keep_first([&] { other.get(); });
  if (problem) std::rethrow_exception(problem);
}

void in_portions(std::size_t count, unsigned workers, std::size_t few,
                 const std::function<void(std::size_t, std::size_t)>& work) {
  constexpr std::size_t kEach = 4;  // portions a thread: none waits long for the others
  const std::size_t threads = std::clamp<std::size_t>(count / (few + 1), 1, std::max(workers, 1U));
  const std::size_t portions = threads == 1 ? 1 : std::min(threads * kEach, count);
  std::atomic<std::size_t> next = 0;
  std::mutex mutex;
  std::size_t foremost = portions;
  std::exception_ptr problem;
  by_threads(threads, [&] {
    for (std::size_t i = next++; i < portions; i = next++) {
      try {
        work(count * i / portions, count * (i + 1) / portions);
      } catch (...) {
        const std::lock_guard lock(mutex);
        next = portions;
        if (i >= foremost) continue;
        foremost = i;
        problem = std::current_exception();
      }
    }
  });
  if (problem) std::rethrow_exception(problem);
}

}  // namespace hambrel
