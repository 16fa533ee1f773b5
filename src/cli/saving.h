// --save: a plan is shown, decided on, and written to a file instead of being carried out.
#pragma once

#include "cli/session.h"
#include "operations/proposal.h"

namespace hambrel::cli {

/// Returns the exit code.
int save(Session& session, const Arguments& arguments, std::unique_ptr<operations::Proposal> proposal);

}  // namespace hambrel::cli
