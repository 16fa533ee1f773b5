// A bounded queue between a thread that makes things and one that uses them.
//
// Invariants: everything given comes out once and in order; what went wrong in the making is thrown in take(), after
// what was made before it; neither side waits for one that has ended or closed. Where the system gives no thread, all
// of it is made when the first is taken.
#pragma once

#include <condition_variable>
#include <deque>
#include <exception>
#include <functional>
#include <mutex>
#include <optional>
#include <system_error>
#include <thread>
#include <utility>

#include "base/parallel.h"

namespace hambrel {

template <typename Value>
class Pipe {
 public:
  /// Runs `make` in a thread of its own; it hands out values with give(). At most `most` wait at a time, and as many
  /// are being taken.
  Pipe(std::size_t most, const std::function<void(Pipe&)>& make) : most_(most) {
    const auto run = [this, make] {
      std::exception_ptr problem;
      try {
        make(*this);
      } catch (const Closed&) {  // nobody wants the rest
      } catch (...) {
        problem = std::current_exception();
      }
      const std::lock_guard lock(mutex_);
      problem_ = problem;
      ended_ = true;
      changed_.notify_all();
    };
    try {
      making_ = begin_thread(run);
    } catch (const std::system_error&) {
      most_ = SIZE_MAX;
      later_ = run;
    }
  }
  /// Waits for the thread to notice that nothing more is wanted.
  ~Pipe() {
    {
      const std::lock_guard lock(mutex_);
      closed_ = true;
      changed_.notify_all();
    }
    if (making_.joinable()) making_.join();
  }
  Pipe(const Pipe&) = delete;
  Pipe& operator=(const Pipe&) = delete;

  /// For the maker. Does not return when nothing more is wanted.
  void give(Value value) {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return closed_ || waiting_.size() < most_; });
    if (closed_) throw Closed();
    waiting_.push_back(std::move(value));
    changed_.notify_all();
  }
  /// The next value; nothing at the end.
  std::optional<Value> take() {
    if (const auto run = std::exchange(later_, nullptr)) run();
    if (taken_.empty()) take_waiting();
    if (taken_.empty()) {
      if (problem_) std::rethrow_exception(problem_);
      return std::nullopt;
    }
    std::optional<Value> value(std::move(taken_.front()));
    taken_.pop_front();
    return value;
  }

 private:
  struct Closed {};

  /// All that waits, at once: the maker has room for as many then, and neither wakes the other for each.
  void take_waiting() {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return ended_ || !waiting_.empty(); });
    taken_.swap(waiting_);
    changed_.notify_all();
  }

  std::size_t most_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Value> waiting_;
  std::deque<Value> taken_;  // from there, by the one that takes
  std::exception_ptr problem_;
  bool ended_ = false, closed_ = false;
  std::function<void()> later_;  // the making, where there is no thread for it
  std::thread making_;
};

}  // namespace hambrel
