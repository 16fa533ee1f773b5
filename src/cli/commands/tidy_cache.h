// The cache of package files as the program shows it.
#pragma once

#include "cli/session.h"
#include "operations/limits.h"

namespace hambrel::cli {

/// `tidy cache`. Returns the exit code.
int tidy_cache(Session& session, const Arguments& arguments);

}  // namespace hambrel::cli
