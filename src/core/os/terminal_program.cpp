#include "os/terminal_program.h"

#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <csignal>
#include <cstdlib>
#include <vector>

#include "os/handle.h"
#include "os/interrupt.h"

namespace hambrel::os {

namespace {

/// A reader that ended before the text did is no reason to end this program.
class PipeSignalIgnored {
 public:
  PipeSignalIgnored() : before_(std::signal(SIGPIPE, SIG_IGN)) {}
  ~PipeSignalIgnored() { std::signal(SIGPIPE, before_); }
  PipeSignalIgnored(const PipeSignalIgnored&) = delete;
  PipeSignalIgnored& operator=(const PipeSignalIgnored&) = delete;

 private:
  void (*before_)(int);
};

void write_all(int descriptor, std::string_view text) {
  while (!text.empty()) {
    const ssize_t written = ::write(descriptor, text.data(), text.size());
    if (written < 0 && errno == EINTR) continue;
    if (written <= 0) return;  // nobody reads on
    text.remove_prefix(static_cast<std::size_t>(written));
  }
}

}  // namespace

std::optional<int> run_on_terminal(std::span<const std::string> words, std::optional<std::string_view> input) {
  std::vector<std::string> texts(words.begin(), words.end());
  std::vector<char*> arguments;
  for (std::string& text : texts) arguments.push_back(text.data());
  arguments.push_back(nullptr);
  std::array<int, 2> ends{-1, -1};
  if (input && ::pipe2(ends.data(), O_CLOEXEC) != 0) return std::nullopt;
  std::optional<Handle> reading(ends[0]), writing(ends[1]);
  const InterruptGuard guard;
  const PipeSignalIgnored ignored;
  posix_spawnattr_t attributes;
  sigset_t usual;
  ::sigemptyset(&usual);
  for (const int signal : {SIGINT, SIGTERM, SIGHUP, SIGPIPE}) ::sigaddset(&usual, signal);
  ::posix_spawnattr_init(&attributes);
  ::posix_spawnattr_setsigdefault(&attributes, &usual);
  ::posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETSIGDEF);
  posix_spawn_file_actions_t actions;
  ::posix_spawn_file_actions_init(&actions);
  if (input) ::posix_spawn_file_actions_adddup2(&actions, ends[0], STDIN_FILENO);
  pid_t process = 0;
  const bool started = ::posix_spawnp(&process, arguments[0], &actions, &attributes, arguments.data(), environ) == 0;
  ::posix_spawn_file_actions_destroy(&actions);
  ::posix_spawnattr_destroy(&attributes);
  reading.reset();
  if (input && started) write_all(writing->get(), *input);
  writing.reset();  // the end of its input
  if (!started) return std::nullopt;
  int status = 0;
  pid_t ended = -1;
  while ((ended = ::waitpid(process, &status, 0)) < 0 && errno == EINTR) {
  }
  if (ended != process) return std::nullopt;
  constexpr int kBySignal = 128;  // as a shell has it
  return WIFEXITED(status) ? WEXITSTATUS(status) : kBySignal + WTERMSIG(status);
}

bool show_in_pager(std::string_view text) {
  constexpr int kNotFound = 127, kNotStarted = 126;  // of sh
  const char* const chosen = std::getenv("PAGER");
  const std::string pager = chosen != nullptr ? chosen : "less";
  if (pager.empty() || pager == "cat") return false;
  // -F ends where the text fits, -R shows colours, -X leaves the text on the screen
  ::setenv("LESS", "FRX", 0);
  const std::array<std::string, 3> words{"sh", "-c", pager};
  const auto code = run_on_terminal(words, text);
  return code && *code != kNotFound && *code != kNotStarted;
}

}  // namespace hambrel::os
