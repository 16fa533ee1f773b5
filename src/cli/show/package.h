// Packages as JSON objects for programs.
#pragma once

#include <nlohmann/json_fwd.hpp>

#include "cli/session.h"

namespace hambrel::cli {

/// Name, version, architecture, summary, reason, origins: one line of `list` and `search`.
nlohmann::json brief_json(const Universe& universe, PackageId id);
nlohmann::json entry_json(const FileEntry& entry);

}  // namespace hambrel::cli
