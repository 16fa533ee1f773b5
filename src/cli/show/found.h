// What was found: packages and recipes by words, owners of paths.
#pragma once

#include <string>
#include <vector>

#include "cli/session.h"
#include "cli/show/rows.h"
#include "model/search.h"

namespace hambrel::cli {

/// With the recipes that the same words are in; where there is neither, what may have been meant.
void show(Session& session, const std::vector<std::string>& words, const std::vector<SearchHit>& hits);
/// Whose a path is, or who made what is there; `with_offered`: else what repositories have with it. False: nobody's.
[[nodiscard]] bool add_owner(Session& session, Rows& rows, const std::string& path, bool with_offered);

}  // namespace hambrel::cli
