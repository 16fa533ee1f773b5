// How what is prepared is shown.
#pragma once

#include "cli/session.h"

#include <nlohmann/json_fwd.hpp>

namespace hambrel::cli {

/// "upgrade of 3 packages"
std::string prepared_text(const state::Prepared& prepared);
nlohmann::json to_json(const state::Prepared& prepared);
/// With its steps, and why it can't be activated any more if that is so.
void print_prepared(const Session& session, const state::Prepared& prepared);

}  // namespace hambrel::cli
