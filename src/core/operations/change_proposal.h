// A plan of packages with all that is known of their files: what is fetched, staged and moved, and the configuration
// that is to be decided on.
#pragma once

#include "operations/change.h"

namespace hambrel::operations {

/// Throws Error{Refused} for what files stand in the way.
std::unique_ptr<Proposal> change_proposal(Root& root, ChangeRequest request, plan::Plan plan);

}  // namespace hambrel::operations
