#include "os/command.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <csignal>
#include <cstring>

#include "base/error.h"
#include "os/handle.h"
#include "os/host.h"

namespace hambrel::os {

namespace {

constexpr std::array<const char*, 6> kDirectories{"/usr/local/sbin", "/usr/local/bin", "/usr/sbin",
                                                  "/usr/bin",        "/sbin",          "/bin"};
constexpr std::size_t kKept = 64 << 10;  // bytes

void require(int problem) {
  if (problem != 0)
    throw Error(ErrorCode::Io, fmt::format("cannot start a program: {}", std::strerror(problem)), {},
                "run the command again");
}

/// In a session of its own, with no signal blocked or ignored, and with what it prints in one pipe.
class Start {
 public:
  explicit Start(int output) {
    require(::posix_spawn_file_actions_init(&actions_));
    require(::posix_spawnattr_init(&attributes_));
    require(::posix_spawn_file_actions_addopen(&actions_, 0, "/dev/null", O_RDONLY, 0));
    require(::posix_spawn_file_actions_adddup2(&actions_, output, 1));
    require(::posix_spawn_file_actions_adddup2(&actions_, output, 2));
    require(::posix_spawn_file_actions_addchdir_np(&actions_, "/"));
    sigset_t none, all;
    ::sigemptyset(&none);
    ::sigfillset(&all);
    require(::posix_spawnattr_setsigmask(&attributes_, &none));
    require(::posix_spawnattr_setsigdefault(&attributes_, &all));
    require(
        ::posix_spawnattr_setflags(&attributes_, POSIX_SPAWN_SETSID | POSIX_SPAWN_SETSIGMASK | POSIX_SPAWN_SETSIGDEF));
  }
  ~Start() {
    ::posix_spawn_file_actions_destroy(&actions_);
    ::posix_spawnattr_destroy(&attributes_);
  }
  Start(const Start&) = delete;
  Start& operator=(const Start&) = delete;

  /// The errno of a failure, 0 for none.
  int run(pid_t& process, const std::string& path, std::vector<std::string> words,
          std::vector<std::string> environment) const {
    const auto pointers = [](std::vector<std::string>& texts) {
      std::vector<char*> all;
      for (std::string& text : texts) all.push_back(text.data());
      all.push_back(nullptr);
      return all;
    };
    return ::posix_spawn(&process, path.c_str(), &actions_, &attributes_, pointers(words).data(),
                         pointers(environment).data());
  }

 private:
  posix_spawn_file_actions_t actions_{};
  posix_spawnattr_t attributes_{};
};

/// Takes what comes; false at the end.
bool take(int from, std::string& into) {
  std::array<char, 16384> buffer{};
  const ssize_t size = ::read(from, buffer.data(), buffer.size());
  if (size < 0 && (errno == EINTR || errno == EAGAIN)) return true;
  if (size <= 0) return false;
  into.append(buffer.data(), static_cast<std::size_t>(size));
  if (into.size() > 2 * kKept) into.erase(0, into.size() - kKept);
  return true;
}

/// Has it ended? A service that it started may hold the pipe for ever, so that its end says nothing.
bool has_ended(pid_t process, CommandEnd& end) {
  int status = 0;
  if (::waitpid(process, &status, WNOHANG) != process) return false;
  constexpr int kBySignal = 128;
  end.code = WIFEXITED(status) ? WEXITSTATUS(status) : kBySignal + WTERMSIG(status);
  return true;
}

}  // namespace

std::string find_program(const std::string& name) {
  if (name.starts_with('/')) return ::access(name.c_str(), X_OK) == 0 ? name : std::string();
  for (const char* const directory : kDirectories)
    if (std::string path = fmt::format("{}/{}", directory, name); ::access(path.c_str(), X_OK) == 0) return path;
  return {};
}

CommandEnd run_command(const std::vector<std::string>& words, unsigned seconds, const std::vector<std::string>& more) {
  CommandEnd end;
  const std::string path = find_program(words.at(0));
  if (path.empty()) {
    end.problem = fmt::format("there is no program {}", words[0]);
    return end;
  }
  std::array<int, 2> ends{};
  if (::pipe2(ends.data(), O_CLOEXEC) != 0) require(errno);
  Handle reads(ends[0]), writes(ends[1]);
  if (::fcntl(reads.get(), F_SETFL, O_NONBLOCK) != 0) require(errno);
  std::string search = "PATH=";
  for (const char* const directory : kDirectories)
    search += fmt::format("{}{}", search.size() > 5 ? ":" : "", directory);
  std::vector<std::string> environment{search, "LANG=C.UTF-8", "HOME=/root"};
  environment.insert(environment.end(), more.begin(), more.end());
  pid_t process = -1;
  if (const int problem = Start(writes.get()).run(process, path, words, environment); problem != 0) {
    end.problem = std::strerror(problem);
    return end;
  }
  end.started = true;
  std::ignore = writes.close();
  const std::int64_t until = monotonic_milliseconds() + 1000LL * seconds;
  bool open = true;
  constexpr int kLookAgain = 20;  // milliseconds
  while (!has_ended(process, end)) {
    if (monotonic_milliseconds() > until) {
      end.timed_out = true;
      ::kill(-process, SIGKILL);
      while (::waitpid(process, nullptr, 0) < 0 && errno == EINTR) {
      }
      break;
    }
    pollfd one{open ? reads.get() : -1, POLLIN, 0};
    ::poll(&one, 1, kLookAgain);
    if (one.revents != 0) open = take(reads.get(), end.output);
  }
  // what lies in the pipe still, and no more
  for (std::size_t before = 0; open && (before == 0 || end.output.size() != before);) {
    before = end.output.size();
    open = take(reads.get(), end.output);
    if (before == 0 && end.output.empty()) break;
  }
  if (end.output.size() > kKept) end.output.erase(0, end.output.size() - kKept);
  return end;
}

}  // namespace hambrel::os
