// Ctrl-C and the like while something must not be left half done.
#pragma once

namespace hambrel::os {

/// As long as one lives, SIGINT, SIGTERM and SIGHUP do not end the process: they are remembered. Only one at a time.
class [[nodiscard]] InterruptGuard {
 public:
  InterruptGuard();
  ~InterruptGuard();
  InterruptGuard(const InterruptGuard&) = delete;
  InterruptGuard& operator=(const InterruptGuard&) = delete;
  /// Was this process asked to stop since the guard was made?
  bool asked() const;
};

/// For tests: as if the administrator had pressed Ctrl-C just now.
void test_only_interrupt();

}  // namespace hambrel::os
