// Packages: the lines of `list` and `search`, files, trees, everything about one.
#pragma once

#include <string>
#include <vector>

#include "cli/session.h"
#include "cli/show/rows.h"
#include "cli/terminal/table.h"
#include "operations/looking.h"

namespace hambrel::cli {

/// Name, version, architecture, summary, reason, origins: what `list` and `search` say to programs.
nlohmann::json to_json(const Universe& universe, PackageId id);
/// One line of `list`.
void add_listed(Table& table, const Universe& universe, PackageId id);
/// All lines that `list` has of what is installed.
std::string list_text(const Universe& universe);

void show(const Session& session, const std::string& package, const FileEntry& file);
void show(Session& session, const std::vector<operations::TreeLine>& lines);
void describe(Session& session, PackageId id);

}  // namespace hambrel::cli
