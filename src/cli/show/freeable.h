// What could be freed, by area, and what is proposed to be.
#pragma once

#include <string>
#include <vector>

#include "build/workshop.h"
#include "cli/session.h"
#include "operations/freeable.h"

namespace hambrel::cli {

/// Pristine contents of configuration that nothing began from.
std::string idle_text(std::size_t idle);

/// All areas, what builds have left among them, and what frees each.
void show(const Session& session, const std::vector<operations::FreeableArea>& areas,
          const std::vector<build::LeftByBuilds::Item>& builds);

// What goes from one area; `result`: what became of it.
nlohmann::json to_json(const operations::CacheProposal& proposal, const char* result);
nlohmann::json to_json(const operations::AtticProposal& proposal, const char* result);
nlohmann::json to_json(const std::vector<build::LeftByBuilds::Item>& items, const char* result);
void print(Session& session, const operations::CacheProposal& proposal);
void print(const Session& session, const operations::AtticProposal& proposal);
/// The attics alone, without what it means that some go.
void print_table(const Session& session, const operations::AtticProposal& proposal);
/// `place`: where they lie.
void print(const Session& session, const build::LeftByBuilds& left, const std::string& place);

}  // namespace hambrel::cli
