// What two systems differ in, and the candidates for a path.
#pragma once

#include <vector>

#include "cli/session.h"
#include "operations/picks.h"
#include "operations/sets.h"

namespace hambrel::cli {

/// Returns how many there are.
std::size_t show(const Session& session, const std::vector<operations::SetDifference>& differences);
void show(const Session& session, const std::vector<operations::PickCandidate>& candidates);

}  // namespace hambrel::cli
