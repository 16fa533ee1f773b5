// repo rank: the mirrors of a repository compared, and those chosen that are used from now on.
#pragma once

#include "cli/session.h"

namespace hambrel::cli {

/// Returns the exit code.
int rank_mirrors(Session& session, const Arguments& arguments);

/// "1 3-5": these numbers in this order, each once; nothing where it is anything else, or one is not from 1 to `most`.
std::optional<std::vector<std::size_t>> numbers_in(std::string_view text, std::size_t most);

}  // namespace hambrel::cli
