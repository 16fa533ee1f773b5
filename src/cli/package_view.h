// Packages as JSON objects for programs, and their files from wherever they are known.
#pragma once

#include <nlohmann/json_fwd.hpp>
#include <vector>

#include "cli/session.h"

namespace hambrel::cli {

/// Name, version, architecture, summary, reason, origins: one line of `list` and `search`.
nlohmann::json brief_json(const Universe& universe, PackageId id);
nlohmann::json entry_json(const FileEntry& entry);

/// The files of a package version: from the state, the package file, the cache, or its table of contents fetched alone.
std::vector<FileEntry> files_of(Session& session, PackageId id);

/// The checked table of a package version that is to be installed; fetched by one ranged read each, side by side, where
/// neither a file nor the cache has it. `damaged` is told of what lies in the cache and must not be used.
std::map<PackageId, std::shared_ptr<const archive::Table>> tables_of(Session& session,
                                                                     const std::vector<PackageId>& ids,
                                                                     std::vector<PackageId>* damaged = nullptr);

}  // namespace hambrel::cli
