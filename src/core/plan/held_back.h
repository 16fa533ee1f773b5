// Why an upgrade holds packages back: for each the shortest chain of facts from the version that is on offer to
// something that stays.
//
// Every link is true by itself: it quotes a relation as it is written and names versions. Found by breadth-first search
// from the offered version over "would need", "would take the place of" and "stands against", within the chosen set.
#pragma once

#include "plan/plan.h"

namespace hambrel::plan {

/// Fills HeldBack::why and HeldBack::by of each entry.
void explain_held_back(const Universe& universe, const std::vector<PackageId>& chosen,
                       std::vector<HeldBack>& held_back);

}  // namespace hambrel::plan
