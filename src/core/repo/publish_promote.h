// Moving package versions from one channel of a repository to another: by a rule in repository.toml, before the others.
#pragma once

#include <string>
#include <vector>

#include "os/file_system.h"

namespace hambrel::repo {

/// Versions that `spec` means ("lampdesk", "lampdesk = 6.0-1") and that are in channel `from` are in channel `to` from
/// the next publish on. Returns what they are called. Throws Error{Usage} for names that can't be, Error{Refused} where
/// there is none.
std::vector<std::string> promote(os::FileSystem& directory, const std::string& spec, const std::string& from,
                                 const std::string& to);

}  // namespace hambrel::repo
