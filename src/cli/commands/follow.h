// What `install NAME@CHANNEL` has in common with `follow NAME CHANNEL`.
#pragma once

#include "cli/command.h"
#include "operations/change.h"

namespace hambrel::cli {

/// Asks whether packages that are named with a channel follow it from then on, where they do not; or as options say.
void follow_what_is_named(const Arguments& arguments, operations::Root& root, operations::ChangeRequest& request);

}  // namespace hambrel::cli
