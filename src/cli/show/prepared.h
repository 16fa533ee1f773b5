// What is prepared and waits for its switch.
#pragma once

#include <string>

#include "cli/session.h"
#include "operations/activating.h"

namespace hambrel::cli {

/// "upgrade of 3 packages"
std::string text_of(const operations::PreparedChange& prepared);
nlohmann::json to_json(const operations::PreparedChange& prepared);
/// With its steps.
void print(const Session& session, const operations::PreparedChange& prepared);

}  // namespace hambrel::cli
