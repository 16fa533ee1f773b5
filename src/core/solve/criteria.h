// The levels that a selection is measured by, as soft literals, and the orders in which they count.
//
// Levels are data: a policy is a list of them. docs/solver.md says what each counts; tests hold that against a second
// reading of those words.
#pragma once

#include <vector>

#include "solve/encoding.h"
#include "solve/optimize.h"

namespace hambrel::solve {

/// The levels for a request, the most important first.
const std::vector<Level>& levels_for(const Request& request);

/// What a level counts, for the packages of an encoding.
std::vector<Soft> softs_of(Level level, Encoding& encoding);

}  // namespace hambrel::solve
