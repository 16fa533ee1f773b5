// Packages that the system needs, by their own word (essential = true) or by the settings ([protect] names): they are
// not removed, shelved or taken back to an older version unless each is named for that.
#pragma once

#include "operations/root.h"
#include "plan/plan.h"

namespace hambrel::operations {

/// Throws Error{Refused} for a step of a plan that takes one away, or an older version of one, and is not allowed.
void require_allowed(Root& root, const plan::Plan& plan, const solve::Names& allowed);
/// Throws Error{Refused} for what comes under a license that hambrel.toml refuses.
void require_licenses(Root& root, const plan::Plan& plan);
/// The same of names that are to be removed or shelved, before anything is looked for.
void require_allowed(Root& root, const solve::Names& go, const solve::Names& allowed, const char* what);

}  // namespace hambrel::operations
