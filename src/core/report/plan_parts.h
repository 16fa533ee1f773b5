// A plan as sections of a page.
#pragma once

#include <vector>

#include "plan/plan.h"
#include "report/page.h"

namespace hambrel::report {

std::vector<Tile> tiles_of(const plan::Plan& plan);
/// Packages with reasons and prices, as a graph and a table; then all else that the plan does.
std::vector<Section> sections_of(const plan::Plan& plan);

}  // namespace hambrel::report
