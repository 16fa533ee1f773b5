// What verifying has found, and what recreating a lost state comes to.
#pragma once

#include "cli/session.h"
#include "operations/rebuilding.h"
#include "operations/verifying.h"

namespace hambrel::cli {

/// `all`: what is missing below a missing directory, too.
void show(const Session& session, const operations::Verification& found, bool all);

/// `result`: what became of it.
nlohmann::json to_json(const operations::RebuildProposal& proposal, const char* result);
void print(const Session& session, const operations::RebuildProposal& proposal);

}  // namespace hambrel::cli
