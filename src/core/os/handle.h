// A file descriptor, closed when it is let go. What was written to is let go by close(), whose result counts.
#pragma once

#include <unistd.h>

#include <cerrno>

#include <utility>

namespace hambrel::os {

class Handle {
 public:
  explicit Handle(int fd = -1) : fd_(fd) {}
  Handle(Handle&& other) noexcept : fd_(std::exchange(other.fd_, -1)) {}
  Handle& operator=(Handle&& other) noexcept {
    std::swap(fd_, other.fd_);
    return *this;
  }
  Handle(const Handle&) = delete;
  Handle& operator=(const Handle&) = delete;
  ~Handle() {
    if (fd_ >= 0) ::close(fd_);
  }
  int get() const { return fd_; }
  /// Returns the errno of the failure, 0 for none.
  [[nodiscard]] int close() {
    if (fd_ < 0) return 0;
    return ::close(std::exchange(fd_, -1)) == 0 || errno == EINTR ? 0 : errno;
  }

 private:
  int fd_;
};

}  // namespace hambrel::os
