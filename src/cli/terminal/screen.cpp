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
void Screen::sentence(std::string_view text, std::size_t hanging) const {
  const std::size_t width = output_is_terminal() ? terminal_width() : SIZE_MAX;
  raw(fitted(with_root(text, root_), hanging, width));
}
void Screen::note(std::string_view text) const { problem(with_root(text, root_)); }
void Screen::problem(std::string_view text, std::size_t hanging) const {
  event(fitted(text, hanging, error_is_terminal() ? terminal_width() : SIZE_MAX));
}
void Screen::event(std::string_view lines) const {
  std::fflush(stdout);  // whether it worked is asked at the end
  const std::string whole = terminal_text(lines, error_color_, false);
  if (held_ && error_is_terminal()) {  // it stands in the page where it belongs
    *held_ += whole;
    return;
  }
  std::fwrite(whole.data(), 1, whole.size(), stderr);
}
void Screen::hint(std::string_view text) const {
  constexpr std::size_t kHanging = 3;  // below the text, not the arrow
  problem(fmt::format("  {} {}", paint_error(Style::Come, "->"), with_root(text, root_)), kHanging);
}
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
  if (!text.empty())
    sentence("  " + paint(Style::Faint, fmt::format("{:<{}}", label, kWidth)) + printable(text), kWidth);
}

namespace {

/// Columns of a text with style codes in it.
std::size_t shown_width(std::string_view text) {
  std::size_t sum = 0;
  while (true) {
    const std::size_t code = text.find("\033[");
    sum += display_width(text.substr(0, code));
    const std::size_t end = code == std::string_view::npos ? code : text.find('m', code);
    if (end == std::string_view::npos) return sum;
    text.remove_prefix(end + 1);
  }
}

/// A word without the style codes that it begins with.
std::string_view behind_style(std::string_view word) {
  while (word.starts_with("\033[")) {
    const std::size_t end = word.find('m');
    if (end == std::string_view::npos) break;
    word.remove_prefix(end + 1);
  }
  return word;
}

/// Does a word begin a command that somebody may copy?
bool begins_command(std::string_view word) { return word == "hambrel" || word.starts_with('`'); }

/// Does a word end the command that began with another?
bool ends_command(std::string_view begun, std::string_view word) {
  const bool is_first = word.data() + word.size() == begun.data() + begun.size();
  if (begun.starts_with('`')) return (is_first ? begun.substr(1) : word).find('`') != std::string_view::npos;
  return !word.empty() && std::string_view(",;:.)").find(word.back()) != std::string_view::npos;
}

/// What becomes of a command that is wider than a line.
enum class Wide { Broken, Left };

/// The words of a line. A command is one of them, as half of one must not be copied: what stands in backticks, or goes
/// from "hambrel" to the end of the line. Others, in a sentence without backticks, are if they fit into `room`.
std::vector<std::string_view> words_of(std::string_view line, std::size_t room, Wide wide) {
  std::vector<std::string_view> words;
  const std::vector<std::string_view> parts = split(line, ' ');
  for (std::size_t i = 0; i < parts.size(); ++i) {
    if (parts[i].empty()) continue;
    words.push_back(parts[i]);
    const std::string_view begun = behind_style(parts[i]);
    if (!begins_command(begun)) continue;
    constexpr std::size_t kMost = 4096;  // bytes of a command: that of a hostile text has no end
    std::size_t last = i;
    const auto size = [&] {
      return static_cast<std::size_t>(parts[last].data() + parts[last].size() - parts[i].data());
    };
    while (last + 1 < parts.size() && !ends_command(begun, parts[last]) && size() < kMost) ++last;
    const std::string_view whole = trim({parts[i].data(), size()});
    const bool is_sure = begun.starts_with('`') || last + 1 == parts.size();
    if ((wide == Wide::Broken || !is_sure) && shown_width(whole) > room) continue;
    words.back() = whole;
    i = last;
  }
  return words;
}

/// Appends a line, broken between words: what goes on below is indented by `further`.
void add_wrapped(std::string_view line, std::size_t indent, std::size_t further, std::size_t width, Wide wide,
                 std::string& lines) {
  std::size_t used = 0;  // columns of the line that is being made
  bool begun = false;
  const char* end = line.data();
  for (const std::string_view word : words_of(line, width - std::min(width, further), wide)) {
    const std::size_t size = shown_width(word);
    std::size_t blanks = begun ? static_cast<std::size_t>(word.data() - end) : indent;
    // what is wider than any line gains nothing by one of its own
    const bool helps = wide == Wide::Broken || further + size <= width ||
                       !begins_command(behind_style(word.substr(0, word.find(' '))));
    if (begun && helps && used + blanks + size > width) {
      lines += '\n';
      used = 0;
      blanks = further;
    }
    lines.append(blanks, ' ').append(word);
    used += blanks + size;
    begun = true;
    end = word.data() + word.size();
  }
  lines += '\n';
}

}  // namespace

std::string wrapped(std::string_view text, std::size_t indent, std::size_t width) {
  std::string lines;
  for (const std::string_view paragraph : split(text, '\n'))
    add_wrapped(paragraph, indent, indent, width, Wide::Broken, lines);
  return lines;
}

std::string fitted(std::string_view text, std::size_t hanging, std::size_t width) {
  std::string lines;
  for (const std::string_view line : split(text, '\n')) {
    const std::size_t indent = std::min(line.find_first_not_of(' '), line.size());
    if (shown_width(line) <= width)
      lines.append(line).append("\n");
    else
      add_wrapped(line, indent, indent + hanging, width, Wide::Left, lines);
  }
  return lines;
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
