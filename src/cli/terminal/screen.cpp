#include "cli/terminal/screen.h"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <iostream>

#include "base/error.h"
#include "base/text.h"
#include "cli/show/command_text.h"
#include "cli/terminal/table.h"
#include "os/interrupt.h"
#include "os/terminal_program.h"

namespace hambrel::cli {

bool input_is_terminal() { return isatty(STDIN_FILENO) != 0; }
bool output_is_terminal() { return isatty(STDOUT_FILENO) != 0; }
bool error_is_terminal() { return isatty(STDERR_FILENO) != 0; }

namespace {

winsize terminal_size() {
  winsize size{};
  for (const int fd : {STDERR_FILENO, STDOUT_FILENO})
    if (ioctl(fd, TIOCGWINSZ, &size) == 0 && size.ws_col > 0) return size;
  return {24, 80, 0, 0};
}

}  // namespace

std::size_t terminal_width() { return terminal_size().ws_col; }
std::size_t terminal_rows() { return std::max<std::size_t>(terminal_size().ws_row, 1); }

bool read_line(std::string& line) { return static_cast<bool>(std::getline(std::cin, line)); }

namespace {

bool wants_color(Screen::Color color, bool terminal) {
  if (color != Screen::Color::Auto) return color == Screen::Color::Always;
  const char* const off = std::getenv("NO_COLOR");
  const char* const kind = std::getenv("TERM");
  return terminal && (off == nullptr || *off == '\0') && kind != nullptr && std::string_view(kind) != "dumb";
}

std::string painted(bool color, Style style, std::string_view text) {
  static constexpr const char* kCodes[] = {"", "1", "2", "32", "33", "31", "1;33", "1;34"};
  if (!color || style == Style::Plain || text.empty()) return std::string(text);
  return fmt::format("\033[{}m{}\033[0m", kCodes[static_cast<int>(style)], text);
}

}  // namespace

Screen::Screen(Color color, bool json)
    : color_(wants_color(color, output_is_terminal())),
      error_color_(wants_color(color, error_is_terminal())),
      json_(json) {}

void Screen::raw(std::string_view text) const {
  if (text.empty()) return;
  if (are_plain_lines(text)) return write(text);
  write(terminal_text(text, color_, json_));
}
void Screen::write(std::string_view text) const {
  if (held_) {
    *held_ += text;
    return;
  }
  wrote_ = true;
  std::fwrite(text.data(), 1, text.size(), stdout);  // whether it worked is asked at the end, of all of it
}
void Screen::show_held() const {
  if (!held_) return;
  const std::string text = std::move(*held_);
  held_.reset();
  wrote_ = wrote_ || !text.empty();
  std::fwrite(text.data(), 1, text.size(), stdout);  // whether it worked is asked at the end
}
void Screen::end_page() const {
  if (!held_) return;
  const auto lines = static_cast<std::size_t>(std::count(held_->begin(), held_->end(), '\n'));
  if (lines >= terminal_rows() && os::show_in_pager(*held_)) held_.reset();
  show_held();
}
void Screen::line(std::string_view text) const {
  raw(fmt::format("{}\n", json_ ? std::string(text) : with_root(text, root_)));
}
void Screen::paragraph(std::string_view text, std::size_t indent) const {
  paragraph(text, indent, output_is_terminal() ? terminal_width() : SIZE_MAX);
}
void Screen::paragraph(std::string_view text, std::size_t indent, std::size_t width) const {
  raw(wrapped(json_ ? std::string(text) : with_root(text, root_), indent, width));
}
void Screen::note(std::string_view text) const { problem(with_root(text, root_)); }
void Screen::problem(std::string_view text) const {
  std::fflush(stdout);  // whether it worked is asked at the end
  const std::string whole = terminal_text(text, error_color_, false) + "\n";
  if (held_ && error_is_terminal()) {  // it stands in the page where it belongs
    *held_ += whole;
    return;
  }
  std::fwrite(whole.data(), 1, whole.size(), stderr);
}
void Screen::hint(std::string_view text) const { note(fmt::format("  {} {}", paint_error(Style::Come, "->"), text)); }
std::string Screen::paint(Style style, std::string_view text) const { return painted(color_, style, text); }
std::string Screen::paint_error(Style style, std::string_view text) const { return painted(error_color_, style, text); }

void Screen::remark(std::string_view text) const {
  constexpr std::size_t kIndent = 8;
  const std::size_t width = output_is_terminal() ? terminal_width() : SIZE_MAX;
  std::string lines = wrapped(text, kIndent, width).substr(kIndent);
  lines.pop_back();  // the last line break
  line("  " + paint(Style::Warn, "note") + "  " + lines);
}

void Screen::field(std::string_view label, std::string_view text) const {
  constexpr int kWidth = 12;
  if (!text.empty()) line("  " + paint(Style::Faint, fmt::format("{:<{}}", label, kWidth)) + printable(text));
}

std::string wrapped(std::string_view text, std::size_t indent, std::size_t width) {
  std::string result;
  for (const std::string_view paragraph : split(text, '\n')) {
    std::string line(indent, ' ');
    std::size_t used = indent;
    bool first = true;
    for (const std::string_view word : split(paragraph, ' ')) {
      if (word.empty()) continue;
      const std::size_t size = display_width(word);
      if (!first && used + 1 + size > width) {
        result += line + "\n";
        line.assign(indent, ' ');
        used = indent;
        first = true;
      }
      if (!first) {
        line += ' ';
        ++used;
      }
      line += word;
      used += size;
      first = false;
    }
    result += first ? "\n" : line + "\n";
  }
  return result;
}

bool can_ask() { return input_is_terminal() && (output_is_terminal() || error_is_terminal()); }

std::optional<std::string> ask(const Screen& screen, std::string_view question, std::string_view form) {
  screen.show_held();
  if (output_is_terminal()) {
    screen.raw(fmt::format("{} ({})\n> ", screen.paint(Style::Strong, question), form));
    std::fflush(stdout);  // whether it worked is asked at the end
  } else {
    std::fflush(stdout);
    std::fputs(terminal_text(fmt::format("{} ({})\n> ", question, form), false, false).c_str(), stderr);
  }
  const os::InterruptGuard guard(os::InterruptGuard::Reading::Ends);
  std::string answer;
  if (read_line(answer)) return std::string(trim(answer));
  if (!guard.asked()) return std::nullopt;
  std::fputc('\n', stderr);
  throw Error(ErrorCode::Declined, "nothing was changed");
}

}  // namespace hambrel::cli
