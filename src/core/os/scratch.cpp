// Files that are nobody's: gone with the process.
#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>

#include "base/error.h"
#include "os/file_system.h"
#include "os/posix_handles.h"

namespace hambrel::os {

std::unique_ptr<DatabaseFile> open_scratch() {
  const char* const given = std::getenv("TMPDIR");
  const std::string directory = given != nullptr && *given == '/' ? given : "/var/tmp";
  Handle file(::open(directory.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600));
  if (file.get() < 0) {  // a file system that has no nameless files
    std::string name = directory + "/hambrel-XXXXXX";
    file = Handle(::mkostemp(name.data(), O_CLOEXEC));
    if (file.get() < 0 || ::unlink(name.c_str()) != 0) throw_errno(errno, "cannot make a temporary file", directory);
  }
  return std::make_unique<PosixDatabaseFile>(std::move(file), directory + "/(a temporary file)");
}

}  // namespace hambrel::os
