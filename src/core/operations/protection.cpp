#include "operations/protection.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace hambrel::operations {

namespace {

bool is_protected(Root& root, std::string_view name) {
  const Universe& universe = root.universe();
  const auto versions = universe.versions_of(name);
  return std::any_of(versions.begin(), versions.end(), [&](PackageId id) { return universe.is_protected(id); });
}

[[noreturn]] void refuse(const std::vector<std::string>& names, const char* what) {
  std::string options;
  for (const std::string& name : names) options += " --allow-essential " + name;
  throw Error(ErrorCode::Refused,
              fmt::format("{} {} essential, and this would {} {}", join(names, ", "), names.size() == 1 ? "is" : "are",
                          what, names.size() == 1 ? "it" : "them"),
              {}, fmt::format("if you are sure, name {}:{}", names.size() == 1 ? "it" : "each", options));
}

}  // namespace

void require_allowed(Root& root, const solve::Names& go, const solve::Names& allowed, const char* what) {
  std::vector<std::string> names;
  for (const std::string& name : go)
    if (!allowed.contains(name) && is_protected(root, name)) names.push_back(name);
  if (!names.empty()) refuse(names, what);
}

void require_licenses(Root& root, const plan::Plan& plan) {
  const Universe& universe = root.universe();
  for (const plan::Step& step : plan.steps) {
    const bool comes = step.action == plan::Action::Install || step.action == plan::Action::Upgrade ||
                       step.action == plan::Action::Downgrade;
    if (!comes || !step.after_id || !universe.is_license_refused(*step.after_id)) continue;
    throw Error(ErrorCode::Refused,
                fmt::format("{} {} is under {}, which hambrel.toml refuses", step.name, step.after,
                            printable(universe.package(*step.after_id).license)),
                {}, "to install it anyway: change `refuse` below [licenses] in /etc/hambrel/hambrel.toml");
  }
}

void require_allowed(Root& root, const plan::Plan& plan, const solve::Names& allowed) {
  const std::pair<plan::Action, const char*> kinds[] = {
      {plan::Action::Remove, "remove"}, {plan::Action::Shelve, "shelve"}, {plan::Action::Downgrade, "downgrade"}};
  for (const auto& [action, what] : kinds) {
    solve::Names go;
    for (const plan::Step& step : plan.steps)
      if (step.action == action) go.insert(step.name);
    if (!go.empty()) require_allowed(root, go, allowed, what);
  }
}

}  // namespace hambrel::operations
