#include "cli/terminal/screen.h"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>
#include <utf8proc.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <iostream>

#include "base/text.h"
#include "cli/show/command_text.h"

namespace hambrel::cli {

bool input_is_terminal() { return isatty(STDIN_FILENO) != 0; }
bool output_is_terminal() { return isatty(STDOUT_FILENO) != 0; }
bool error_is_terminal() { return isatty(STDERR_FILENO) != 0; }

std::size_t terminal_width() {
  winsize size{};
  for (const int fd : {STDERR_FILENO, STDOUT_FILENO})
    if (ioctl(fd, TIOCGWINSZ, &size) == 0 && size.ws_col > 0) return size.ws_col;
  return 80;
}

bool read_line(std::string& line) { return static_cast<bool>(std::getline(std::cin, line)); }

namespace {

bool wants_color(Screen::Color color, bool terminal) {
  if (color != Screen::Color::Auto) return color == Screen::Color::Always;
  const char* const off = std::getenv("NO_COLOR");
  const char* const kind = std::getenv("TERM");
  return terminal && (off == nullptr || *off == '\0') && kind != nullptr && std::string_view(kind) != "dumb";
}

std::string painted(bool color, Style style, std::string_view text) {
  static constexpr const char* kCodes[] = {"", "1", "2", "36", "33", "35", "1;33", "1;34"};
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
  wrote_ = true;
  std::fwrite(text.data(), 1, text.size(), stdout);  // whether it worked is asked at the end, of all of it
}
void Screen::line(std::string_view text) const {
  raw(fmt::format("{}\n", json_ ? std::string(text) : with_root(text, root_)));
}
void Screen::note(std::string_view text) const { problem(with_root(text, root_)); }
void Screen::problem(std::string_view text) const {
  std::fflush(stdout);  // whether it worked is asked at the end
  const std::string whole = terminal_text(text, error_color_, false) + "\n";
  std::fwrite(whole.data(), 1, whole.size(), stderr);
}
void Screen::hint(std::string_view text) const { note(fmt::format("  {} {}", paint_error(Style::Come, "->"), text)); }
std::string Screen::paint(Style style, std::string_view text) const { return painted(color_, style, text); }
std::string Screen::paint_error(Style style, std::string_view text) const { return painted(error_color_, style, text); }

std::size_t display_width(std::string_view text) {
  if (is_plain(text)) return text.size();
  std::size_t sum = 0, cluster = 0;
  utf8proc_int32_t code = 0, before = -1, state = 0;
  const auto* at = reinterpret_cast<const utf8proc_uint8_t*>(text.data());
  auto left = static_cast<utf8proc_ssize_t>(text.size());
  while (left > 0) {
    const utf8proc_ssize_t size = utf8proc_iterate(at, left, &code);
    if (size <= 0) return sum + cluster + static_cast<std::size_t>(left);  // not UTF-8: a column a byte
    const std::size_t width = code == 0xFE0F ? 2 : static_cast<std::size_t>(std::max(0, utf8proc_charwidth(code)));
    if (before < 0 || utf8proc_grapheme_break_stateful(before, code, &state)) {
      sum += cluster;
      cluster = width;
    } else {
      cluster = std::max(cluster, width);
    }
    before = code;
    at += size, left -= size;
  }
  return sum + cluster;
}

void Table::row(std::initializer_list<Cell> cells) {
  if (widths_.size() < cells.size()) widths_.resize(cells.size(), 0);
  for (std::size_t i = 0; i < cells.size(); ++i) {
    const Cell& cell = cells.begin()[i];
    const std::size_t width = display_width(cell.text);
    widths_[i] = std::max(widths_[i], width);
    cells_.push_back({static_cast<std::uint32_t>(cell.text.size()), static_cast<std::uint32_t>(width), cell.style,
                      cell.right, i + 1 == cells.size()});
    texts_ += cell.text;
  }
}

void Table::expect(std::size_t rows) {
  constexpr std::size_t kCells = 6, kBytes = 96;  // of a row
  cells_.reserve(rows * kCells);
  texts_.reserve(rows * kBytes);
}

/// `paint` adds a cell's text to the output, `give` takes a portion of it.
template <typename Paint, typename Give>
void Table::write(const Paint& paint, const Give& give) const {
  constexpr std::size_t kPortion = 32768;  // bytes
  std::string out;
  out.reserve(std::min(texts_.size() + cells_.size() * 8, 2 * kPortion));
  std::size_t column = 0, at = 0, owed = indent_;  // owed: blanks that only matter if something follows
  for (const Entry& cell : cells_) {
    const std::size_t gap = widths_[column] - cell.width;
    if (cell.right) owed += gap;
    if (cell.size > 0) {
      out.append(owed, ' ');
      owed = 0;
      paint(out, cell.style, std::string_view(texts_).substr(at, cell.size));
    }
    if (!cell.right) owed += gap;
    if (widths_[column] > 0) owed += 2;
    ++column;
    at += cell.size;
    if (cell.last) {
      out += '\n';
      column = 0;
      owed = indent_;
      if (out.size() < kPortion) continue;
      give(out);
      out.clear();
    }
  }
  give(out);
}

void Table::print(const Screen& screen) const {
  // each text is made fit for a terminal before it is painted: so the whole need not be looked at again
  const auto paint = [&](std::string& out, Style style, std::string_view text) {
    out += is_plain(text) ? screen.paint(style, text) : screen.paint(style, terminal_text(text, false, false));
  };
  if (screen.color()) return write(paint, [&](const std::string& out) { screen.write(out); });
  write([](std::string& out, Style, std::string_view text) { out += text; },
        [&](const std::string& out) { screen.raw(out); });
}

std::string Table::text() const {
  std::string whole;
  write([](std::string& out, Style, std::string_view text) { out += text; },
        [&](const std::string& out) { whole += out; });
  return whole;
}

void Screen::remark(std::string_view text) const {
  constexpr std::size_t kIndent = 8;
  const std::size_t width = output_is_terminal() ? terminal_width() : SIZE_MAX;
  std::string lines = wrapped(text, kIndent, width).substr(kIndent);
  lines.pop_back();  // the last line break
  line("  " + paint(Style::Warn, "note") + "  " + lines);
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
      if (!first) line += ' ', ++used;
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
  if (output_is_terminal()) {
    screen.raw(fmt::format("{} ({}) ", screen.paint(Style::Strong, question), form));
    std::fflush(stdout);  // whether it worked is asked at the end
  } else {
    std::fflush(stdout);
    std::fputs(terminal_text(fmt::format("{} ({}) ", question, form), false, false).c_str(), stderr);
  }
  std::string answer;
  if (!read_line(answer)) return std::nullopt;
  return std::string(trim(answer));
}

}  // namespace hambrel::cli
