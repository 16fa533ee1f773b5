// Repositories: their list, what came of a refresh, whom one trusts, how its mirrors measure.
#pragma once

#include <string>
#include <vector>

#include "cli/session.h"
#include "cli/show/rows.h"
#include "operations/repositories.h"

namespace hambrel::cli {

/// A fingerprint's digits in one row, without what parts them for people.
std::string bare(std::string text);

nlohmann::json to_json(const operations::CachedIndex& index);
nlohmann::json to_json(const operations::RefreshResult& result);
nlohmann::json to_json(const operations::RepositoryFacts& facts);
nlohmann::json to_json(const operations::MirrorMeasure& one);

void show(const Session& session, const std::vector<operations::CachedIndex>& indexes);
/// With what is new in them, and what is known of the security of what is installed.
void show(Session& session, const std::vector<operations::RefreshResult>& results,
          const operations::WhatsNew& whats_new = {});
void show(const Session& session, const operations::RepositoryFacts& facts);
/// Who signs, and the fingerprint that is to be compared.
void show(const Session& session, const std::string& name, const operations::OfferedRoot& root);
/// A mirror; `number`: by which it can be chosen.
void add(Rows& rows, const operations::MirrorMeasure& one, std::size_t number);

}  // namespace hambrel::cli
