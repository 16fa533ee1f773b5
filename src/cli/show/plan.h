// A plan, as people read it and as JSON.
#pragma once

#include <vector>

#include "cli/session.h"
#include "plan/plan.h"

namespace hambrel::cli {

/// Short: on a terminal, and without --verbose, a long plan names what only comes along without a line for each.
enum class PlanLines { Short, All };
void print_plan(const Session& session, const plan::Plan& plan, PlanLines lines = PlanLines::Short);
/// Are there so many steps that they are not all shown in lines?
bool is_long(const plan::Plan& plan);
/// What becomes of configuration, a line for each file.
void print_configs(const Screen& screen, const std::vector<plan::ConfigStep>& configs);
/// What an upgrade leaves behind, grouped by the reason, and what would help.
/// `all`: else only the reasons that hold back the most.
void print_held_back(const Session& session, const plan::Plan& plan, bool all);

nlohmann::json to_json(const plan::Plan& plan);
nlohmann::json to_json(const plan::Voucher& voucher);
/// "skerry-base by root 1, key 1234..."
std::string vouched_text(const plan::Voucher& voucher, const std::string& origin);

}  // namespace hambrel::cli
