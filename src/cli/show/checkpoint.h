// Checkpoints.
#pragma once

#include <string>
#include <vector>

#include "cli/session.h"
#include "operations/checkpoints.h"

namespace hambrel::cli {

nlohmann::json to_json(const operations::KeptCheckpoint& one);
/// How much of configuration it has.
std::string files_of(const operations::Checkpoint& one);
void show(const Session& session, const std::vector<operations::KeptCheckpoint>& checkpoints);

}  // namespace hambrel::cli
