// Areas side by side whose sizes are as values are.
#pragma once

#include <vector>

namespace hambrel::report {

struct Area {
  double x = 0, y = 0, w = 0, h = 0;
};

/// One area for each value, in their order, which is descending; all of them fill `whole`, with sides as alike as the
/// order allows. Source: Bruls, Huizing, van Wijk: Squarified Treemaps, 2000.
std::vector<Area> treemap(const std::vector<double>& values, Area whole);

}  // namespace hambrel::report
