// tidy builds: what building from source has left.
#pragma once

#include "cli/session.h"
#include "cli/show/rows.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

int tidy_builds(Session& session, const Arguments& arguments);
/// Its line of the overview, if there is something, and the command that frees it. Returns the bytes that it frees.
ByteCount add_builds(Session& session, Rows& rows, Table& ways);

}  // namespace hambrel::cli
