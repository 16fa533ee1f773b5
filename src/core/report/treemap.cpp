#include "report/treemap.h"

#include <algorithm>
#include <limits>
#include <numeric>

namespace hambrel::report {

namespace {

/// The worst ratio of sides, where values of this sum, the largest and smallest given, lie along `side`.
double worst(double sum, double largest, double smallest, double side) {
  const double square = sum * sum, length = side * side;
  return std::max(length * largest / square, square / (length * smallest));
}

}  // namespace

std::vector<Area> treemap(const std::vector<double>& values, Area whole) {
  std::vector<Area> areas;
  areas.reserve(values.size());
  const double total = std::accumulate(values.begin(), values.end(), 0.0);
  if (total <= 0 || whole.w <= 0 || whole.h <= 0) {
    areas.resize(values.size());
    return areas;
  }
  const double scale = whole.w * whole.h / total;
  Area rest = whole;
  for (std::size_t first = 0; first < values.size();) {
    const double side = std::max(1e-9, std::min(rest.w, rest.h));
    double sum = 0;
    double before = std::numeric_limits<double>::infinity();
    std::size_t end = first;
    for (; end < values.size(); ++end) {
      const double value = values[end] * scale;
      if (value <= 0) continue;
      const double ratio = worst(sum + value, values[first] * scale, value, side);
      if (ratio > before) break;
      before = ratio;
      sum += value;
    }
    // a row along the shorter side
    const bool is_column = rest.w >= rest.h;
    const double depth = sum / side;
    double at = is_column ? rest.y : rest.x;
    for (std::size_t i = first; i < end; ++i) {
      const double length = depth > 0 ? values[i] * scale / depth : 0;
      areas.push_back(is_column ? Area{rest.x, at, depth, length} : Area{at, rest.y, length, depth});
      at += length;
    }
    if (is_column) {
      rest.x += depth;
      rest.w -= depth;
    } else {
      rest.y += depth;
      rest.h -= depth;
    }
    first = end;
  }
  return areas;
}

}  // namespace hambrel::report
