// The repositories of a root: added, dropped, switched on and off, refreshed.
#pragma once

#include <string>
#include <vector>

#include "operations/root.h"

namespace hambrel::operations {

/// Fetches the indexes of these repositories, or without names of all that are enabled. A failure of one stands in its
/// result. Throws Error{NotFound} for a name that is none.
std::vector<repo::RefreshResult> refresh(Root& root, const std::vector<std::string>& names);

/// How many installed packages could be renewed.
std::size_t count_newer(Root& root);

}  // namespace hambrel::operations
