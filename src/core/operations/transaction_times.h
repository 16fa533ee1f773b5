// Where the time of a transaction goes, for whoever is curious: from the start of the program, planning included.
#pragma once

#include <chrono>
#include <map>

#include "base/observer.h"
#include "txn/environment.h"

namespace hambrel::operations {

/// Told of each step of an engine, it notes the times of all of them after the last.
class TransactionTimes {
 public:
  explicit TransactionTimes(Observer& observer) : observer_(observer) {}
  void after(txn::EngineStep step);

 private:
  using Clock = std::chrono::steady_clock;
  void tell() const;

  Observer& observer_;
  Clock::time_point start_ = Clock::now();
  std::map<txn::EngineStep, Clock::time_point> at_;  // of moves: the last one
  std::size_t moves_ = 0;
};

}  // namespace hambrel::operations
