// What became of a plan.
#pragma once

#include <string>

#include <nlohmann/json_fwd.hpp>

#include "cli/session.h"
#include "operations/proposal.h"

namespace hambrel::cli {

/// What is proposed, before it is agreed to: with --json only where nothing else follows, by --dry-run.
void show(Session& session, const Arguments& arguments, const operations::Proposal& proposal);
/// `undone`: what took it back, as a service did not come up.
void show(const Session& session, const plan::Plan& plan, const operations::Outcome& outcome,
          const operations::Outcome* undone = nullptr);
/// What was done with services, as a document and as lines.
nlohmann::json services_json(const operations::Outcome& outcome);
/// What only a restart brings to the new files.
void put_left(nlohmann::json& document, const operations::Outcome& outcome);
std::string left_text(const Session& session, const operations::Outcome& outcome);
std::string services_text(const Session& session, const operations::Outcome& outcome);
/// Nothing is to be done.
void show_nothing(const Session& session, const operations::Proposal& proposal);

}  // namespace hambrel::cli
