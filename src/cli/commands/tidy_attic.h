// The attic as commands show it.
#pragma once

#include "cli/session.h"
#include "operations/limits.h"

namespace hambrel::cli {

/// Its size, for people.
std::string size_of(const txn::StandingAttic& one);

/// `tidy attic`. Returns the exit code.
int tidy_attic(Session& session, const Arguments& arguments);

}  // namespace hambrel::cli
