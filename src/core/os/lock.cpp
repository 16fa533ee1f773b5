#include "os/lock.h"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>

#include "base/error.h"
#include "base/text.h"
#include "os/host.h"

namespace hambrel::os {

namespace {

class PosixLock final : public Lock {
 public:
  explicit PosixLock(int fd) : fd_(fd) {}
  ~PosixLock() override {
    // The text goes first, so that nobody is told of a holder that is gone. Nothing can be done if it fails.
    if (::ftruncate(fd_, 0) != 0) ::fsync(fd_);
    ::close(fd_);
  }
  PosixLock(const PosixLock&) = delete;
  PosixLock& operator=(const PosixLock&) = delete;

 private:
  int fd_;
};

std::string holder(int fd) {
  std::string text(512, '\0');
  const ssize_t size = ::pread(fd, text.data(), text.size(), 0);
  text.resize(size > 0 ? static_cast<std::size_t>(size) : 0);
  const std::string shown = printable(trim(text));
  return shown.empty() ? "another run" : shown;
}

}  // namespace

std::unique_ptr<Lock> take_lock(const std::string& path, int wait_seconds, const std::string& describe) {
  const int fd = ::open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0644);
  if (fd < 0) throw_errno(errno, "cannot open the lock", path);
  const std::int64_t until = monotonic_milliseconds() + 1000LL * wait_seconds;
  while (::flock(fd, LOCK_EX | LOCK_NB) != 0) {
    const int problem = errno;
    if (problem == EINTR) continue;
    if (problem == EWOULDBLOCK && monotonic_milliseconds() < until) {
      sleep_milliseconds(50);
      continue;
    }
    const std::string who = holder(fd);
    ::close(fd);
    if (problem != EWOULDBLOCK) throw_errno(problem, "cannot take the lock", path);
    throw Error(ErrorCode::Locked, "this root is being changed by " + who, path,
                wait_seconds > 0 ? "it was still busy after the wait: try later"
                                 : "wait for it to end, or give --wait SECONDS");
  }
  auto lock = std::make_unique<PosixLock>(fd);
  const std::string text = describe + "\n";
  if (::ftruncate(fd, 0) != 0 || ::pwrite(fd, text.data(), text.size(), 0) < 0)
    throw_errno(errno, "cannot write the lock", path);
  return lock;
}

}  // namespace hambrel::os
