// The digests of files that have come, worked out side by side while more come: by a thread of its own, and by whoever
// has nothing else to do.
//
// Invariants: what can't be opened or read concerns none of the others; each file that was added is told once.
#pragma once

#include <chrono>
#include <condition_variable>
#include <cstddef>
#include <deque>
#include <functional>
#include <mutex>
#include <optional>
#include <thread>
#include <vector>

#include "base/digests.h"
#include "base/error.h"

namespace hambrel::repo {

class DigestQueue {
 public:
  using Open = std::function<MessageToRead()>;
  struct Result {
    std::size_t number;  // of the file, as it was added
    Digest digest;
    std::optional<Error> problem;  // with reading it
  };
  /// So many files are open at once for it. `told`, which may be called by any thread: there is something to take.
  /// Where the system has no thread to give, only help() works.
  DigestQueue(std::size_t together, std::function<void()> told);
  /// Waits for what is being worked out; the rest is left.
  ~DigestQueue();
  DigestQueue(const DigestQueue&) = delete;
  DigestQueue& operator=(const DigestQueue&) = delete;

  /// Fewer than go side by side wait a moment for others.
  void add(std::size_t number, Open file);
  /// What is known by now, once.
  std::vector<Result> take();
  /// Nothing more will be added for now: works on what waits together with the other thread. At once where it has all.
  void help();
  bool has_thread() const { return thread_.joinable(); }

 private:
  struct Waiting {
    std::size_t number;
    Open open;
    std::chrono::steady_clock::time_point since;
  };
  void run();
  std::vector<Waiting> next();
  void work(std::vector<Waiting> files);

  const std::size_t together_;
  const std::function<void()> told_;
  std::mutex mutex_;  // of all that follows
  std::condition_variable changed_;
  std::deque<Waiting> waiting_;
  std::vector<Result> results_;
  bool is_last_ = false;  // whoever waits is not to wait for others
  bool ended_ = false;
  std::thread thread_;  // the last: it reads all the others
};

}  // namespace hambrel::repo
