// Keys: in files, and those that are known here.
#pragma once

#include <string>
#include <vector>

#include "cli/session.h"
#include "operations/keys.h"
#include "operations/known_keys.h"

namespace hambrel::cli {

nlohmann::json document_of(const operations::KeyFile& key);
std::string text_of(const operations::KeyFile& key);
void show(const Session& session, const std::vector<operations::KnownKey>& keys);

}  // namespace hambrel::cli
