// Work on many things by several threads.
#pragma once

#include <cstddef>
#include <functional>
#include <future>
#include <map>
#include <memory>
#include <mutex>
#include <system_error>
#include <thread>
#include <utility>
#include <vector>

namespace hambrel {

/// A thread that does `work`, begun on another processor than this one where the machine has little else to do. Throws
/// std::system_error where the system has no thread to give.
///
/// Left to itself, Linux (6.18, EEVDF) puts every second new thread behind the one that made it, on the same processor,
/// until that rests or the next tick comes: 1 to 3 ms, in which a short piece of work is done.
std::thread begin_thread(std::function<void()> work);

/// What another thread works out while this one goes on; or, where the system has no thread to give, this one when it
/// asks for it. Whoever lets it go waits for the thread.
template <typename Result>
class [[nodiscard]] Aside {
 public:
  Aside() = default;
  explicit Aside(std::future<Result> result, std::thread thread = {})
      : result_(std::move(result)), thread_(std::move(thread)) {}
  Aside(Aside&&) noexcept = default;
  Aside& operator=(Aside&& other) noexcept {
    wait();
    result_ = std::move(other.result_);
    thread_ = std::move(other.thread_);
    return *this;
  }
  ~Aside() { wait(); }

  bool valid() const { return result_.valid(); }
  bool has_thread() const { return thread_.joinable(); }
  /// Once. Throws what the work threw.
  Result get() {
    wait();
    return result_.get();
  }

 private:
  void wait() {
    if (thread_.joinable()) thread_.join();
  }

  std::future<Result> result_;
  std::thread thread_;
};

/// For get() to do.
template <typename Work>
Aside<std::invoke_result_t<Work>> later(Work work) {
  return Aside(std::async(std::launch::deferred, std::move(work)));
}

template <typename Work>
Aside<std::invoke_result_t<Work>> aside(Work work) {
  using Result = std::invoke_result_t<Work>;
  const auto task = std::make_shared<std::packaged_task<Result()>>(std::move(work));
  try {
    std::thread thread = begin_thread([task] { (*task)(); });
    return Aside(task->get_future(), std::move(thread));
  } catch (const std::system_error&) {
    return later([task] {
      (*task)();
      return task->get_future().get();
    });
  }
}

/// Runs `work` in so many threads at once, this one among them (or fewer, where the system has none to give), and waits
/// for all of them. Throws what the first of them threw that did, this one being the first of all.
void by_threads(std::size_t threads, const std::function<void()>& work);

/// Calls `work(first, last)` for portions that together are the numbers from 0 to `count`, each in one of up to
/// `workers` threads, this one among them; up to `few` of them are one portion. Returns when all are done, and throws
/// what the foremost of those portions threw that did; after a throw, portions that were not begun are left.
void in_portions(std::size_t count, unsigned workers, std::size_t few,
                 const std::function<void(std::size_t, std::size_t)>& work);

/// All that `add(i, values)` adds for the numbers below `count`, in their order; in portions as above.
template <typename Value, typename Add>
std::vector<Value> gathered(std::size_t count, unsigned workers, std::size_t few, const Add& add) {
  std::mutex mutex;
  std::map<std::size_t, std::vector<Value>> portions;  // by their first numbers
  in_portions(count, workers, few, [&](std::size_t first, std::size_t last) {
    std::vector<Value> values;
    for (std::size_t i = first; i < last; ++i) add(i, values);
    const std::lock_guard lock(mutex);
    portions.emplace(first, std::move(values));
  });
  std::vector<Value> all;
  for (const auto& [first, values] : portions) all.insert(all.end(), values.begin(), values.end());
  return all;
}

}  // namespace hambrel
