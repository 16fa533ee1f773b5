// Why a change cannot be made, and the remedies.
#pragma once

#include <optional>
#include <vector>

#include "cli/session.h"
#include "operations/change.h"

namespace hambrel::cli {

/// Says why, looks for ways out while that is being read, and shows them.
std::vector<plan::Remedy> show_refusal(Session& session, const operations::Refused& refused);

}  // namespace hambrel::cli
