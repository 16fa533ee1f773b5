// A plan and a refusal as people read them, and the one question.
#pragma once

#include "cli/session.h"
#include "operations/change.h"

namespace hambrel::cli {

void print_plan(const Session& session, const plan::Plan& plan);
/// What becomes of configuration, a line for each file.
void print_configs(const Screen& screen, const std::vector<plan::ConfigStep>& configs);
/// What an upgrade leaves behind, grouped by the reason, and what would help.
void print_held_back(const Session& session, const plan::Plan& plan);
/// Says why, looks for ways out while that is being read, and shows them.
std::vector<plan::Remedy> print_refusal(Session& session, const operations::Refused& refused);
/// On a terminal: lets the administrator take one of the remedies by its number. Nothing if none was taken.
std::optional<std::size_t> choose_remedy(const Session& session, const Arguments& arguments,
                                         const std::vector<plan::Remedy>& remedies);

/// Was everything agreed to before, or is there somebody to ask? Where not, a plan is made by looking only.
bool is_consent_possible(const Session& session, const Arguments& arguments);
/// Refuses at once with Error{Declined} when a changing command could not ask and may not go on without asking.
void require_consent_possible(const Session& session, const Arguments& arguments);
/// Asks, unless --yes was given. Throws Error{Declined} for anything but a yes.
void ask_consent(const Session& session, const Arguments& arguments);
/// What became of a plan.
void show(const Session& session, const plan::Plan& plan, const operations::Outcome& outcome);

}  // namespace hambrel::cli
