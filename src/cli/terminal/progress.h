// Draws the core's progress on standard error: one line that is wiped when the work is done. Only on a terminal, only
// for work that takes longer than about 200 ms.
#pragma once

#include "base/observer.h"
#include "cli/terminal/screen.h"

namespace hambrel::cli {

class Progress final : public Observer {
 public:
  Progress(const Screen& screen, bool quiet) : screen_(screen), quiet_(quiet) {}
  void begin(std::string_view activity, std::uint64_t total, Unit unit) override;
  void progress(std::uint64_t done) override;
  void end() override;
  void note(std::string_view text) override;

 private:
  void wipe();

  const Screen& screen_;
  bool quiet_, terminal_ = error_is_terminal();
  std::string activity_;
  std::uint64_t total_ = 0;
  Unit unit_ = Unit::Items;
  std::int64_t started_ = 0, drawn_ = 0;
  bool shown_ = false;
};

}  // namespace hambrel::cli
