// What `build` and `install --from-source` have in common.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "build/from_source.h"
#include "cli/session.h"

namespace hambrel::cli {

/// Shows what is to be read of a recipe that somebody else wrote, and asks whether to go on. Throws Error{Declined}.
void read_first(Session& session, const Arguments& arguments, const build::Buildable& wanted,
                const std::string& folder);
/// Builds, showing what is done; the exit code where a step failed, which is shown. `took`: milliseconds.
int perform(Session& session, build::Build& build, std::int64_t* took = nullptr);
/// begin(), and before it what was built here and has to be built again before an upgrade: `install` are its package
/// files then. An exit code where that fails.
std::optional<int> begin_with_rebuilds(Session& session, const Arguments& arguments, std::vector<std::string>& install);
/// Builds what is asked for and what that needs, and installs it.
int install_from_source(Session& session, const Arguments& arguments);

}  // namespace hambrel::cli
