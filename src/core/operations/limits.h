// How much of the past a root keeps, by its settings: attics and cached package files.
#pragma once

#include <vector>

#include "operations/root.h"
#include "repo/cache.h"
#include "txn/retention.h"

namespace hambrel::operations {

/// As the settings say; without one of age while the clock can't be believed, which is told.
txn::Limits attic_limits(Root& root);
/// Takes the limit of age off in that case.
void drop_age_in_doubt(Root& root, txn::Limits& limits);
/// Every attic that stands, oldest first; where this root is changed, its state remembers what was counted.
std::vector<txn::StandingAttic> standing_attics(Root& root);

/// The same for the cache.
repo::CacheLimits cache_limits(Root& root);
/// Does an enabled repository offer this version?
bool is_offered(Root& root, const repo::CachedFile& file);

}  // namespace hambrel::operations
