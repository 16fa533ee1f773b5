#include "os/interrupt.h"

#include <signal.h>

#include <array>
#include <atomic>

namespace hambrel::os {

namespace {

std::atomic<bool> asked_to_stop = false;  // set by a handler, asked by every thread
static_assert(std::atomic<bool>::is_always_lock_free);
constexpr std::array kSignals{SIGINT, SIGTERM, SIGHUP};
std::array<struct sigaction, kSignals.size()> actions_before{};

void remember(int) { asked_to_stop = true; }

}  // namespace

InterruptGuard::InterruptGuard(Reading reading) {
  asked_to_stop = false;
  struct sigaction action {};
  action.sa_handler = remember;
  sigemptyset(&action.sa_mask);
  action.sa_flags = reading == Reading::GoesOn ? SA_RESTART : 0;  // with it, nothing that is under way notices
  for (std::size_t i = 0; i < kSignals.size(); ++i) {
    sigaction(kSignals[i], nullptr, &actions_before[i]);
    if (actions_before[i].sa_handler != SIG_IGN) sigaction(kSignals[i], &action, nullptr);  // nohup stays nohup
  }
}

InterruptGuard::~InterruptGuard() {
  for (std::size_t i = 0; i < kSignals.size(); ++i) sigaction(kSignals[i], &actions_before[i], nullptr);
}

bool InterruptGuard::asked() const { return asked_to_stop; }

void test_only_interrupt() { ::raise(SIGINT); }

}  // namespace hambrel::os
