#include "cli/terminal/secret.h"

#include <termios.h>
#include <unistd.h>

#include <cstdio>

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "os/interrupt.h"

namespace hambrel::cli {

namespace {

/// The terminal does not show what is typed, as long as this lives.
class Silence {
 public:
  Silence() {
    known_ = tcgetattr(STDIN_FILENO, &before_) == 0;
    termios silent = before_;
    silent.c_lflag &= ~static_cast<tcflag_t>(ECHO);
    if (known_) tcsetattr(STDIN_FILENO, TCSAFLUSH, &silent);
  }
  ~Silence() {
    if (known_) tcsetattr(STDIN_FILENO, TCSAFLUSH, &before_);
  }
  Silence(const Silence&) = delete;
  Silence& operator=(const Silence&) = delete;

 private:
  termios before_{};
  bool known_ = false;
};

}  // namespace

std::string ask_secret(const Screen& screen, std::string_view question) {
  if (!can_ask())
    throw Error(ErrorCode::Declined, "there is no terminal to ask for the passphrase on", {},
                "run it in a terminal, or use a key without a passphrase");
  screen.show_held();
  std::fputs(terminal_text(fmt::format("{}\n> ", question), false, false).c_str(), stderr);
  const os::InterruptGuard guard(os::InterruptGuard::Reading::Ends);
  std::string answer;
  bool came = false;
  {
    const Silence silence;
    came = read_line(answer);
  }
  std::fputc('\n', stderr);
  if (!came || guard.asked()) throw Error(ErrorCode::Declined, "nothing was changed");
  return answer;
}

std::string passphrase_of(const Screen& screen, const std::string& file) {
  return ask_secret(screen, fmt::format("Passphrase of {}", printable(file)));
}

}  // namespace hambrel::cli
