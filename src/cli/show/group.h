// Groups of packages: their list, and one with its members.
#pragma once

#include <vector>

#include "cli/session.h"
#include "operations/groups.h"

namespace hambrel::cli {

void show(const Session& session, const std::vector<operations::Group>& groups);
void show(const Session& session, const operations::Group& group);

}  // namespace hambrel::cli
