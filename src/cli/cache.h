// The cache of package files as the program shows it, and keeping it small.
#pragma once

#include "cli/session.h"
#include "repo/cache.h"

namespace hambrel::cli {

/// Does an enabled repository offer this version?
bool is_offered(Session& session, const repo::CachedFile& file);
/// `tidy cache`. Returns the exit code.
int tidy_cache(Session& session, const Arguments& arguments);
/// After a transaction that has fetched something: what the limits of hambrel.toml say, told in a line.
void keep_cache_small(Session& session);

}  // namespace hambrel::cli
