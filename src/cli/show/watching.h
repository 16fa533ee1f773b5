// A build while it goes on.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "build/building.h"
#include "cli/session.h"

namespace hambrel::cli {

/// Shows what steps do while they run: each command as a line, and of what it prints the last line, or with -v all.
class Watching {
 public:
  explicit Watching(Session& session) : session_(session) {}
  ~Watching() { end(); }
  Watching(const Watching&) = delete;
  Watching& operator=(const Watching&) = delete;

  void begin(build::StepKind kind, const std::string& command);
  void printed(std::string_view text);
  void end();

 private:
  Session& session_;
  bool running_ = false;
  std::uint64_t seen_ = 0;
};

}  // namespace hambrel::cli
