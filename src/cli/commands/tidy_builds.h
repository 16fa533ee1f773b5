// tidy builds: what building from source has left.
#pragma once

#include <vector>

#include "build/workshop.h"
#include "cli/session.h"

namespace hambrel::cli {

int tidy_builds(Session& session, const Arguments& arguments);
/// For the overview.
std::vector<build::LeftByBuilds::Item> left_by_builds(Session& session);

}  // namespace hambrel::cli
