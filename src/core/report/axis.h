// Axes: round values and moments to put lines and labels at.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace hambrel::report {

struct Tick {
  double at = 0;  // in the unit of the values
  std::string label;
};

/// From 0 to at least `most`, at most six: round numbers, of bytes round multiples of KiB, MiB and so on.
std::vector<Tick> count_ticks(double most);
std::vector<Tick> byte_ticks(double most);

/// Round moments within a span of local time, at most `most_ticks`; seconds since 1970.
std::vector<Tick> time_ticks(std::int64_t from, std::int64_t to, std::size_t most_ticks);

/// Where a value lies on a line of the picture.
struct Scale {
  double from = 0, to = 1;    // values
  double start = 0, end = 1;  // pixels
  double operator()(double value) const {
    return to <= from ? start : start + (value - from) / (to - from) * (end - start);
  }
};

}  // namespace hambrel::report
