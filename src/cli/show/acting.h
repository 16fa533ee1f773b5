// What packages ask for beyond their files: accounts, programs. As text and as JSON.
#pragma once

#include <nlohmann/json_fwd.hpp>
#include <vector>

#include "cli/terminal/screen.h"
#include "plan/plan.h"

namespace hambrel::cli {

/// Of a plan, each part with an empty line behind it.
void print_acting(const Screen& screen, const plan::Plan& plan);
nlohmann::json to_json(const std::vector<plan::FollowStep>& follows);
nlohmann::json to_json(const std::vector<plan::LinkStep>& links);
nlohmann::json to_json(const std::vector<plan::AccountStep>& accounts);
nlohmann::json to_json(const std::vector<plan::Run>& runs);
nlohmann::json to_json(const std::vector<plan::AskStep>& questions);
/// Questions of packages with their answers; nothing for none.
void print_questions(const Screen& screen, const std::vector<plan::AskStep>& questions);
nlohmann::json to_json(const std::vector<plan::ServiceStep>& services);

}  // namespace hambrel::cli
