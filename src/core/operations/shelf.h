// shelve and unshelve: taking the files of packages off the system for a while.
#pragma once

#include <memory>
#include <vector>

#include "operations/change.h"

namespace hambrel::operations {

/// Throws Error{Refused} for what is held, and where others need it, with what would go along.
[[nodiscard]] std::unique_ptr<Proposal> propose_shelve(Root& root, const std::vector<Spec>& specs,
                                                       const PlannedTerms& terms);

/// What is asked for of these that are shelved, into a request: names or globs. Throws Error{Refused} for others.
void add_unshelved(Root& root, const std::vector<Spec>& specs, ChangeRequest& request);

}  // namespace hambrel::operations
