// Who vouches for what a change brings: the keys of a repository whose root is trusted here, a key that signed a
// package file and is known here, or nobody.
#pragma once

#include "operations/root.h"
#include "plan/plan.h"

namespace hambrel::operations {

/// The plan with who vouches put into each of its steps that bring something from outside; what nobody vouches for is
/// named among its notices. Reads no key: what was verified was remembered.
plan::Plan vouched(Root& root, plan::Plan plan);

}  // namespace hambrel::operations
