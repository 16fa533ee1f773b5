#include <iterator>

#include "base/json.h"
#include "plan/plan.h"

namespace hambrel::plan {

namespace {

constexpr const char* kWhyNames[] = {"asked",       "required",       "recommended", "newer",      "replacing",
                                     "replaced-by", "loses-provider", "in-conflict", "makes-room", "stray",
                                     "unneeded",    "undone",         "rolled-back", "damaged"};
constexpr const char* kNoticeNames[] = {"config-kept",  "config-displaced", "config-stays-away", "leftover",
                                        "unowned",      "directory-stays",  "changed",           "privileged",
                                        "lost",         "given-up",         "config-unmerged",   "config-unknown",
                                        "own-settings", "open-to-all",      "directory-lower"};
static_assert(std::size(kNoticeNames) == static_cast<std::size_t>(Notice::Kind::DirectoryLower) + 1);

}  // namespace

std::vector<ConfigStep> configs_of(const std::string& plan) {
  std::vector<ConfigStep> steps;
  if (plan.find(R"("configs":[{)") == std::string::npos) return steps;  // most decide nothing, and may be long
  const Json whole = Json::parse(plan, nullptr, false);
  if (!whole.is_object() || !whole.contains("configs")) return steps;
  try {
    for (const Json& one : whole.at("configs")) {
      ConfigStep step;
      for (int action = 0; action <= static_cast<int>(ConfigAction::Ask); ++action)
        if (one.at("action") == text_of(ConfigAction{action})) step.action = ConfigAction{action};
      const auto path = [](const Json& given) {
        const std::string text = given.is_string() ? given.get<std::string>() : "";
        return text.starts_with('/') ? text.substr(1) : text;
      };
      const auto digest = [](const Json& given) {
        return given.is_string() ? Digest::from_hex(given.get<std::string>()) : std::nullopt;
      };
      step.path = path(one.at("path")), step.from = path(one.at("from"));
      step.package = one.at("package").get<std::string>();
      step.before = digest(one.at("before")), step.after = digest(one.at("after"));
      step.leftover = one.at("leftover").get<bool>();
      steps.push_back(std::move(step));
    }
  } catch (const Json::exception&) {  // of another program's making
    steps.clear();
  }
  return steps;
}

Json to_json(const Plan& plan) {
  Json steps = Json::array();
  for (const Step& step : plan.steps) {
    Json why = {{"kind", kWhyNames[static_cast<int>(step.why.kind)]}, {"text", step.why.text()}};
    if (!step.why.by.empty()) why["by"] = step.why.by;
    if (!step.why.relation.empty()) why["relation"] = step.why.relation;
    steps.push_back({{"action", text_of(step.action)},
                     {"name", step.name},
                     {"arch", step.arch},
                     {"before", step.before.empty() ? Json() : Json(step.before)},
                     {"after", step.after.empty() ? Json() : Json(step.after)},
                     {"why", std::move(why)},
                     {"origin", step.origin},
                     {"reason", text_of(step.reason)},
                     {"download", step.download},
                     {"held", step.held},
                     {"size_change", step.size_change}});
  }
  Json notices = Json::array();
  for (const Notice& notice : plan.notices)
    notices.push_back({{"kind", kNoticeNames[static_cast<int>(notice.kind)]},
                       {"path", notice.kind == Notice::Kind::GivenUp ? notice.path : "/" + notice.path},
                       {"package", notice.package},
                       {"text", notice.text()}});
  Json configs = Json::array();
  for (const ConfigStep& one : plan.configs)
    configs.push_back({{"action", text_of(one.action)},
                       {"path", "/" + one.path},
                       {"package", one.package},
                       {"from", one.from.empty() ? Json() : Json("/" + one.from)},
                       {"before", one.before ? Json(one.before->hex()) : Json()},
                       {"after", one.after ? Json(one.after->hex()) : Json()},
                       {"leftover", one.leftover},
                       {"text", one.text()}});
  Json held_back = Json::array();
  for (const HeldBack& one : plan.held_back)
    held_back.push_back({{"name", one.name},
                         {"stays", one.stays},
                         {"offered", one.offered},
                         {"held", one.held},
                         {"why", one.why},
                         {"by", one.by}});
  Json whole = {{"kind", plan.kind},         {"proved", plan.proved},         {"held_back", std::move(held_back)},
                {"steps", std::move(steps)}, {"configs", std::move(configs)}, {"notices", std::move(notices)},
                {"unneeded", plan.unneeded}, {"download", plan.download()},   {"size_change", plan.size_change()}};
  if (plan.without_strays)
    whole["without_strays"] = {{"held_back", plan.without_strays->held_back},
                               {"dropped", plan.without_strays->dropped}};
  return whole;
}

}  // namespace hambrel::plan
