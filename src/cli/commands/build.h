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
/// What was built here and has to be built again before an upgrade: it is, and `install` are its package files. An exit
/// code where that fails. `begun`: begin() was called.
std::optional<int> rebuild_first(Session& session, const Arguments& arguments, std::vector<std::string>& install,
                                 bool& begun);
/// Builds what is asked for and what that needs, and installs it.
int install_from_source(Session& session, const Arguments& arguments);

}  // namespace hambrel::cli
