// What an overlay's layers hold beside files: whiteouts, which hide what lies in a lower layer
// (https://docs.kernel.org/filesystems/overlayfs.html).

#include <fcntl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>

#include <cerrno>
#include <cstring>

#include <fmt/format.h>

#include "base/error.h"
#include "os/file_system.h"
#include "os/handle.h"

namespace hambrel::os {

namespace {

/// The directory of a path, which is Hambrel's own: nobody else changes what is on the way to it.
Handle open_parent(FileReader& root, std::string_view path) {
  const std::string directory = root.real_path(parent_of(path));
  Handle handle(::open(directory.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
  if (handle.get() < 0) throw Error(ErrorCode::Io, fmt::format("cannot open: {}", std::strerror(errno)), directory, "");
  return handle;
}

}  // namespace

void FileSystem::make_whiteout(std::string_view path) {
  const Handle parent = open_parent(*this, path);
  if (::mknodat(parent.get(), std::string(name_of(path)).c_str(), S_IFCHR, makedev(0, 0)) == 0) return;
  throw Error(ErrorCode::Io, fmt::format("cannot mark something as removed: {}", std::strerror(errno)), shown(path),
              "");
}

bool FileSystem::is_whiteout(std::string_view path) {
  const Handle parent = open_parent(*this, path);
  struct stat raw {};
  return ::fstatat(parent.get(), std::string(name_of(path)).c_str(), &raw, AT_SYMLINK_NOFOLLOW) == 0 &&
         S_ISCHR(raw.st_mode) && raw.st_rdev == makedev(0, 0);
}

void FileSystem::remove_attribute(std::string_view path, const std::string& name) {
  const Handle parent = open_parent(*this, path);
  const std::string whole = fmt::format("/proc/self/fd/{}/{}", parent.get(), name_of(path));
  if (::lremovexattr(whole.c_str(), name.c_str()) == 0 || errno == ENODATA) return;
  throw Error(ErrorCode::Io, fmt::format("cannot remove {}: {}", name, std::strerror(errno)), shown(path), "");
}

}  // namespace hambrel::os
