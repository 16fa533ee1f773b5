// What the processes of a preview take, as one of them counts it. Like preview_child.h: no allocation, no lock, no C++
// library.
#pragma once

#include <cstdint>

namespace hambrel::os::child {

struct Taken {
  unsigned tasks = 0;        // processes and threads
  std::uint64_t memory = 0;  // bytes in memory that no file backs, shared ones not among them
};

/// Adds up all that /proc shows. False with errno where it can't be read.
[[nodiscard]] bool taken_by_all(Taken& all);

}  // namespace hambrel::os::child
