// groups.toml of a repository: each group becomes a package without files that requires its members, so that solving,
// undoing and everything else knows groups without knowing of them.
//
//   [[group]]  name, summary, description; members = ["lampdesk", "group:charts"]; optional = ["foghorn"]
//
// A group with optional members has a second package, which requires the first one and those. Whenever its members
// change, a group gets the next version.
#pragma once

#include <string>
#include <vector>

#include "os/file_system.h"

namespace hambrel::repo {

/// Makes the package files of groups that are new or have changed, and deletes those of groups that are gone. Throws
/// Error{Invalid} with file:line, also for members that no package file is of.
void make_groups(os::FileSystem& directory);

}  // namespace hambrel::repo
