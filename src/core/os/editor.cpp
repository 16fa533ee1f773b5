#include "os/editor.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>

#include "base/error.h"
#include "base/text.h"

extern char** environ;

namespace hambrel::os {

namespace {

constexpr const char* kHint = "look at the directory that TMPDIR names, or /tmp: is there room, is it writable?";

/// A directory of its own for one file, both gone at the end.
class Draft {
 public:
  Draft(const std::string& text, const std::string& name) {
    const char* const given = std::getenv("TMPDIR");
    directory_ = fmt::format("{}/hambrel-edit-XXXXXX", given != nullptr && *given == '/' ? given : "/tmp");
    if (::mkdtemp(directory_.data()) == nullptr) fail("a directory for the draft could not be made");
    file_ = directory_ + "/" + name;
    const int descriptor = ::open(file_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
    if (descriptor < 0) fail("the draft could not be written");
    for (std::size_t done = 0; done < text.size();) {
      const ssize_t count = ::write(descriptor, text.data() + done, text.size() - done);
      if (count <= 0) ::close(descriptor), fail("the draft could not be written");
      done += static_cast<std::size_t>(count);
    }
    ::close(descriptor);
  }
  ~Draft() { remove(); }
  Draft(const Draft&) = delete;
  Draft& operator=(const Draft&) = delete;

  const std::string& file() const { return file_; }
  std::string read() const {
    const int descriptor = ::open(file_.c_str(), O_RDONLY | O_CLOEXEC);
    if (descriptor < 0) throw Error(ErrorCode::Declined, "the draft is gone; nothing was changed", file_, kHint);
    std::string text;
    char buffer[65536];
    ssize_t count = 0;
    while ((count = ::read(descriptor, buffer, sizeof buffer)) > 0)
      text.append(buffer, static_cast<std::size_t>(count));
    ::close(descriptor);
    if (count < 0) throw Error(ErrorCode::Declined, "the draft can't be read; nothing was changed", file_, kHint);
    return text;
  }

 private:
  [[noreturn]] void fail(const char* what) {
    const std::string where = directory_;
    remove();
    throw Error(ErrorCode::Declined, fmt::format("{}; nothing was changed", what), where, kHint);
  }
  /// With whatever the editor left beside it.
  void remove() {
    std::error_code ignored;  // nothing depends on it
    std::filesystem::remove_all(directory_, ignored);
  }

  std::string directory_, file_;
};

}  // namespace

std::string editor() {
  for (const char* const name : {"VISUAL", "EDITOR"})
    if (const char* const value = std::getenv(name); value != nullptr && *value != '\0') return value;
  return "vi";
}

std::string edit_text(const std::string& text, const std::string& name) {
  const Draft draft(text, name);
  const std::string program = editor(), command = program + " \"$1\"";  // it may have options
  std::string words[] = {"sh", "-c", command, "sh", draft.file()};
  char* arguments[] = {words[0].data(), words[1].data(), words[2].data(), words[3].data(), words[4].data(), nullptr};
  pid_t process = 0;
  int status = 0;
  const bool started = ::posix_spawnp(&process, "sh", nullptr, nullptr, arguments, environ) == 0;
  if (!started || ::waitpid(process, &status, 0) != process || !WIFEXITED(status) || WEXITSTATUS(status) != 0)
    throw Error(ErrorCode::Declined,
                fmt::format("the editor {} did not end well; nothing was changed", printable(program)), {},
                "set EDITOR to the editor that you use");
  return draft.read();
}

}  // namespace hambrel::os
