#include "os/editor.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstdlib>
#include <filesystem>

#include "base/error.h"
#include "base/text.h"
#include "os/handle.h"
#include "os/terminal_program.h"

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
    Handle draft(::open(file_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
    if (draft.get() < 0) fail("the draft could not be written");
    for (std::size_t done = 0; done < text.size();) {
      const ssize_t count = ::write(draft.get(), text.data() + done, text.size() - done);
      if (count < 0 && errno == EINTR) continue;
      if (count <= 0) fail("the draft could not be written");
      done += static_cast<std::size_t>(count);
    }
    if (draft.close() != 0) fail("the draft could not be written");
  }
  ~Draft() { remove(); }
  Draft(const Draft&) = delete;
  Draft& operator=(const Draft&) = delete;

  const std::string& file() const { return file_; }
  std::string read() const {
    const Handle draft(::open(file_.c_str(), O_RDONLY | O_CLOEXEC));
    if (draft.get() < 0) throw Error(ErrorCode::Declined, "the draft is gone; nothing was changed", file_, kHint);
    std::string text;
    char buffer[65536];
    ssize_t count = 0;
    while ((count = ::read(draft.get(), buffer, sizeof buffer)) > 0)
      text.append(buffer, static_cast<std::size_t>(count));
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
  const std::string program = editor();
  // it may have options
  const std::array<std::string, 5> words{"sh", "-c", "exec " + program + " \"$1\"", "sh", draft.file()};
  if (run_on_terminal(words) != 0)
    throw Error(ErrorCode::Declined,
                fmt::format("the editor {} exited with an error; nothing was changed", printable(program)), {},
                "set EDITOR to the editor you use");
  return draft.read();
}

}  // namespace hambrel::os
