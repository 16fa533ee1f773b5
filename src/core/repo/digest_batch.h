// The digests of files that have come, worked out side by side by another thread while more comes.
//
// Invariant: what can't be opened or read concerns none of the others.
#pragma once

#include <atomic>
#include <functional>
#include <optional>
#include <vector>

#include "base/digests.h"
#include "base/error.h"
#include "base/parallel.h"

namespace hambrel::repo {

class DigestBatch {
 public:
  using Open = std::function<MessageToRead()>;
  struct Result {
    Digest digest;
    std::optional<Error> problem;  // with reading it
  };
  /// Begins. `done` is called by the other thread at its end; where the system has none to give, results() does the
  /// work. What `files` and `done` refer to must outlive this object.
  DigestBatch(std::vector<Open> files, std::function<void()> done);
  /// Waits for the other thread.
  ~DigestBatch() = default;
  DigestBatch(const DigestBatch&) = delete;
  DigestBatch& operator=(const DigestBatch&) = delete;

  /// results() does not wait for another thread.
  bool is_ready() const;
  /// In the order of the files. To be called once.
  std::vector<Result> results();

 private:
  void work(const std::vector<Open>& files);

  std::vector<Result> results_;
  std::atomic<bool> is_done_ = false;
  Aside<void> working_;  // the last: it is waited for before the others go
};

}  // namespace hambrel::repo
