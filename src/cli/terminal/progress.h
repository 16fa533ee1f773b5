// Shows the core's progress on standard error.
//
// On a terminal: one line, fitted to its width as it is at that moment, drawn at most ten times a second and at least
// twice, for work that takes longer than about 200 ms, and wiped when that is done. Elsewhere: a line for each phase
// that takes longer than a few seconds, when it has. As JSON: each event as a line of its own (docs/json.md).
#pragma once

#include <condition_variable>
#include <mutex>
#include <thread>

#include "base/observer.h"
#include "cli/terminal/screen.h"

namespace hambrel::cli {

class Progress final : public Observer {
 public:
  enum class Form { Text, None, Json };
  /// `quiet`: no notes either, unless they are events.
  Progress(const Screen& screen, Form form, bool quiet) : screen_(screen), form_(form), quiet_(quiet) {}
  ~Progress() override;
  void begin(std::string_view activity, std::uint64_t total, Unit unit) override;
  void at(std::string_view name) override;
  void progress(std::uint64_t done) override;
  void end() override;
  void note(std::string_view text) override;

  /// What is drawn in a terminal of so many columns, for work that has taken `seconds`.
  struct State {
    std::string activity, name;
    std::uint64_t done = 0, total = 0;
    Unit unit = Unit::Items;
    double seconds = 0;
  };
  static std::string text_of(const State& state, std::size_t columns);

 private:
  void wipe();
  void draw(std::int64_t now);
  void beat(const std::stop_token& stop);
  void event(std::string_view line) const;

  const Screen& screen_;
  const Form form_;
  const bool quiet_;
  const bool terminal_ = error_is_terminal();
  std::mutex lock_;  // of everything below: the heart has a thread of its own
  std::condition_variable_any woken_;
  State state_;
  std::int64_t started_ = 0, drawn_ = 0, told_ = 0;  // milliseconds
  bool running_ = false, shown_ = false;
  std::jthread heart_;  // draws while nothing is heard of the work
};

}  // namespace hambrel::cli
