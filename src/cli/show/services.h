// What the services of packages are doing, and what was done with them.
#pragma once

#include "cli/session.h"
#include "cli/show/rows.h"
#include "operations/services.h"

namespace hambrel::cli {

void show(const Session& session, const operations::ServiceList& all);
/// Services, and all else that only a restart of its own brings to the new files.
void show_due(const Session& session, const operations::ServiceList& all);
void add(Rows& rows, const operations::ServiceDone& done);

}  // namespace hambrel::cli
