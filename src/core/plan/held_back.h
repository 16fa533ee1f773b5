// Why an upgrade holds packages back: for each what would have to give way for it, in a sentence.
//
// Every sentence is true by itself: it names what the administrator decided, or what no repository offers, and quotes a
// relation as it is written. That the package could come without it was proved by the solver (solve/obstacles.h).
#pragma once

#include "plan/plan.h"

namespace hambrel::plan {

/// Fills HeldBack::why, by and together of each entry, as far as a reason was found.
void explain_held_back(const Universe& universe, const solve::Selection& selection, std::vector<HeldBack>& held_back);

}  // namespace hambrel::plan
