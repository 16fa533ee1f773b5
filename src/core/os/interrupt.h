// Ctrl-C and the like while something must not be left half done.
#pragma once

namespace hambrel::os {

/// As long as one lives, SIGINT, SIGTERM and SIGHUP do not end the process: they are remembered. Only one at a time.
class [[nodiscard]] InterruptGuard {
 public:
  /// Whether something that is being read when it happens goes on, or ends as if the input had.
  enum class Reading { GoesOn, Ends };
  explicit InterruptGuard(Reading reading = Reading::GoesOn);
  ~InterruptGuard();
  InterruptGuard(const InterruptGuard&) = delete;
  InterruptGuard& operator=(const InterruptGuard&) = delete;
  /// Was this process asked to stop since the guard was made?
  bool asked() const;
};

/// For tests: as if the administrator had pressed Ctrl-C just now.
void test_only_interrupt();

}  // namespace hambrel::os
