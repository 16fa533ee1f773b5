// What a change of a package is as a step of a plan.
#include "txn/undo.h"

namespace hambrel::txn {

using state::PackageChange;
using state::StatePackage;

plan::Step step_of(const PackageChange& back, plan::Why why) {
  plan::Step step;
  step.name = back.name;
  step.why = std::move(why);
  const auto size = [](const std::optional<StatePackage>& side) {
    return side ? static_cast<std::int64_t>(side->package.installed_size) : 0;
  };
  step.size_change = size(back.after) - size(back.before);
  if (back.before) {
    step.before = back.before->package.version.text();
    step.arch = back.before->package.arch;
  }
  if (back.after) {
    step.after = back.after->package.version.text();
    step.arch = back.after->package.arch;
    step.reason = back.after->reason;
  }
  step.origin = back.after_row ? "attic" : back.before->origin;
  if (back.before_row == back.after_row && back.before->shelved != back.after->shelved) {
    step.action = back.after->shelved ? plan::Action::Shelve : plan::Action::Unshelve;
    step.size_change = 0;
  } else if (back.before_row == back.after_row && back.before->hold != back.after->hold)
    step.action = back.after->hold ? plan::Action::Hold : plan::Action::Release;
  else if (back.before_row == back.after_row)
    step.action = step.reason == Reason::Wanted ? plan::Action::Want : plan::Action::Unwant;
  else if (!back.before)
    step.action = plan::Action::Install;
  else if (!back.after)
    step.action = plan::Action::Remove;
  else
    step.action =
        back.before->package.version < back.after->package.version ? plan::Action::Upgrade : plan::Action::Downgrade;
  return step;
}

}  // namespace hambrel::txn
