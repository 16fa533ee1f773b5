// What `build` and `install --from-source` have in common.
#pragma once

#include <string>

#include "build/from_source.h"
#include "cli/session.h"

namespace hambrel::cli {

/// Shows what is to be read of a recipe that somebody else wrote, and asks whether to go on. Throws Error{Declined}.
void read_first(Session& session, const Arguments& arguments, const build::Buildable& wanted,
                const std::string& folder);
/// Builds, showing what is done; the exit code where a step failed, which is shown. `took`: milliseconds.
int perform(Session& session, build::Build& build, std::int64_t* took = nullptr);
/// Builds what is asked for and what that needs, and installs it.
int install_from_source(Session& session, const Arguments& arguments);

}  // namespace hambrel::cli
