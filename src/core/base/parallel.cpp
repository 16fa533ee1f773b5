#include "base/parallel.h"

#include <pthread.h>
#include <sched.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <exception>
#include <mutex>
#include <optional>
#include <vector>

namespace hambrel {

namespace {

/// The processors that this process may use. Asked by the first thread that begins another: none is kept from any then.
const std::optional<cpu_set_t>& usable_processors() {
  static const std::optional<cpu_set_t> usable = [] {
    cpu_set_t set;
    return sched_getaffinity(0, sizeof set, &set) == 0 ? std::optional(set) : std::nullopt;
  }();
  return usable;
}

/// Does hardly anything else run? Then the other processors rest; behind what keeps one busy, a thread would wait
/// longer than beside this one.
bool is_idle_otherwise() {
  constexpr double kFew = 1.5;  // that run, on the average of a minute: this process and little more
  double load = 0;
  return getloadavg(&load, 1) == 1 && load < kFew;
}

/// The processors that this thread is not on, if a thread should begin there.
std::optional<cpu_set_t> elsewhere() {
  std::optional<cpu_set_t> others = usable_processors();
  const int here = sched_getcpu();
  if (!others || here < 0 || !is_idle_otherwise()) return std::nullopt;
  CPU_CLR(static_cast<std::size_t>(here), &*others);
  return CPU_COUNT(&*others) == 0 ? std::nullopt : others;
}

}  // namespace

std::thread begin_thread(std::function<void()> work) {
  const auto others = elsewhere();
  if (!others) return std::thread(std::move(work));
  // it waits until it may go where it likes again: threads and processes that it begins have what it has then
  const auto placed = std::make_shared<std::atomic<bool>>(false);
  std::thread thread([placed, work = std::move(work)] {
    while (!placed->load()) std::this_thread::yield();  // asleep it could be woken up beside whoever wakes it
    work();
  });
  if (pthread_setaffinity_np(thread.native_handle(), sizeof *others, &*others) == 0)
    pthread_setaffinity_np(thread.native_handle(), sizeof *usable_processors(), &*usable_processors());
  placed->store(true);
  return thread;
}

void by_threads(std::size_t threads, const std::function<void()>& work) {
  std::vector<Aside<void>> others;
  for (std::size_t i = 1; i < threads; ++i) others.push_back(aside(work));
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
