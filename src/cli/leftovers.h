// Configuration that stayed when its package was removed, and removing it.
#pragma once

#include "cli/session.h"
#include "txn/configuration.h"

namespace hambrel::cli {

/// Takes all others away.
void keep_leftovers(std::vector<txn::ConfigFile>& files);
std::vector<txn::ConfigFile> leftovers_of(Session& session, const state::State& state);
/// Those of the packages named, or all: with the directories that are empty then, as a transaction of its own that undo
/// takes back. Returns the exit code.
int purge_leftovers(Session& session, const Arguments& arguments, const std::vector<txn::ConfigFile>& leftovers);

}  // namespace hambrel::cli
