// What figures have in common: their width, words and marks.
#pragma once

#include <string>
#include <vector>

#include "report/axis.h"
#include "report/drawing.h"

namespace hambrel::report {

inline constexpr double kFull = 1120, kHalf = 548;  // widths, pixels
inline constexpr double kText = 12, kSmall = 11;

/// A value that a row of bars stands for.
struct Bar {
  std::string label;
  double value = 0, strong = 0;  // the part of it that is meant first; at most value
  std::string text;              // at its end
  Tone tone = Tone::Blue;
  std::string tip{};
};
/// Horizontal bars with labels in a column that is as wide as they need, at most a third.
Drawing bars(const std::vector<Bar>& rows, const std::vector<Tick>& ticks, double width);

struct Key {
  Tone tone = Tone::Blue;
  std::string text;
  bool is_pale = false;
};
/// A line of coloured squares with words, from x on. Returns where it ends.
double keys(Drawing& drawing, double x, double y, const std::vector<Key>& all);

}  // namespace hambrel::report
