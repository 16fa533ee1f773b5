// What an overlay's layers hold beside files: whiteouts, which hide what lies in a lower layer
// (https://docs.kernel.org/filesystems/overlayfs.html). Paths are relative to the root, as in file_system.h.
#pragma once

#include <string>
#include <string_view>

#include "os/file_system.h"

namespace hambrel::os {

/// Throws Error{Io} where the file system, or the rights of this process, don't allow it.
void make_whiteout(FileSystem& root, std::string_view path);
bool is_whiteout(FileReader& root, std::string_view path);
/// Removes an extended attribute if it is there.
void remove_attribute(FileSystem& root, std::string_view path, const std::string& name);

}  // namespace hambrel::os
