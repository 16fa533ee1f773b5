#include "cli/terminal/table.h"

#include <utf8proc.h>

#include <algorithm>
#include <iterator>
#include <map>
#include <mutex>

#include "base/parallel.h"
#include "base/text.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

constexpr std::size_t kLeast = 8;                       // columns of the terminal that a text keeps, if it had them,
constexpr std::size_t kLeastLast = 24;                  // and the last one
constexpr std::string_view kEllipsis = "\xE2\x80\xA6";  // one column

}  // namespace

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
    at += size;
    left -= size;
  }
  return sum + cluster;
}

std::string cut_to(std::string_view text, std::size_t columns) {
  if (display_width(text) <= columns) return std::string(text);
  if (columns == 0) return {};
  std::size_t end = 0;  // of the longest beginning that leaves room for the ellipsis, between code points
  for (std::size_t i = 1; i <= text.size(); ++i) {
    const bool between = i == text.size() || (static_cast<std::uint8_t>(text[i]) & 0xC0U) != 0x80U;
    if (!between) continue;
    if (display_width(text.substr(0, i)) > columns - 1) break;
    end = i;
  }
  return std::string(trim(text.substr(0, end))) + std::string(kEllipsis);
}

Printable::Printable(std::string_view text) : text_(text) {
  if (!is_plain(text)) made_ = printable(text);
}

void Table::row(std::initializer_list<Cell> cells) {
  if (widths_.size() < cells.size()) {
    widths_.resize(cells.size(), 0);
    firm_.resize(cells.size(), false);
    yields_.resize(cells.size(), false);
  }
  Portion& portion = portions_.back();
  for (std::size_t i = 0; i < cells.size(); ++i) {
    const Cell& cell = cells.begin()[i];
    const std::size_t width = display_width(cell.text);
    widths_[i] = std::max(widths_[i], width);
    if (cell.right || cell.firm) firm_[i] = true;
    if (cell.yields) yields_[i] = true;
    portion.cells.push_back({static_cast<std::uint32_t>(cell.text.size()), static_cast<std::uint32_t>(width),
                             cell.style, cell.right, i + 1 == cells.size()});
    portion.texts += cell.text;
  }
}

void Table::expect(std::size_t rows) {
  constexpr std::size_t kCells = 6, kBytes = 96;  // of a row
  portions_.back().cells.reserve(rows * kCells);
  portions_.back().texts.reserve(rows * kBytes);
}

void Table::append(Table&& below) {
  const std::size_t columns = std::max(widths_.size(), below.widths_.size());
  for (Table* one : {this, &below}) {
    one->widths_.resize(columns, 0);
    one->firm_.resize(columns, false);
    one->yields_.resize(columns, false);
  }
  for (std::size_t i = 0; i < columns; ++i) {
    widths_[i] = std::max(widths_[i], below.widths_[i]);
    firm_[i] = firm_[i] || below.firm_[i];
    yields_[i] = yields_[i] || below.yields_[i];
  }
  std::move(below.portions_.begin(), below.portions_.end(), std::back_inserter(portions_));
}

Table Table::of_rows(std::size_t count, const Table& empty, const std::function<void(Table&, std::size_t)>& add) {
  constexpr std::size_t kFew = 1000;  // a thread costs as much as some hundred of them
  std::mutex mutex;
  std::map<std::size_t, Table> tables;  // by their first rows
  in_portions(count, os::processors(), kFew, [&](std::size_t first, std::size_t last) {
    Table table = empty;
    table.expect(last - first);
    for (std::size_t i = first; i < last; ++i) add(table, i);
    const std::lock_guard lock(mutex);
    tables.emplace(first, std::move(table));
  });
  Table whole = empty;
  for (auto& [first, table] : tables) whole.append(std::move(table));
  return whole;
}

/// Calls f(const Entry&, std::string_view text) for one after the other.
template <typename Function>
void Table::each_cell(Function f) const {
  for (const Portion& portion : portions_) {
    const std::string_view texts = portion.texts;
    std::size_t at = 0;
    for (const Entry& cell : portion.cells) {
      f(cell, texts.substr(at, cell.size));
      at += cell.size;
    }
  }
}

/// `paint` adds a cell's text to the output, `give` takes a portion of it.
template <typename Paint, typename Give>
void Table::write(const Paint& paint, const Give& give) const {
  constexpr std::size_t kPortion = 32768;  // bytes
  std::string out;
  out.reserve(std::min(portions_.back().texts.size() + portions_.back().cells.size() * 8, 2 * kPortion));
  std::size_t column = 0, owed = indent_;  // owed: blanks that only matter if something follows
  each_cell([&](const Entry& cell, std::string_view text) {
    const std::size_t gap = widths_[column] - cell.width;
    if (cell.right) owed += gap;
    if (cell.size > 0) {
      out.append(owed, ' ');
      owed = 0;
      paint(out, cell.style, text);
    }
    if (!cell.right) owed += gap;
    if (widths_[column] > 0) owed += 2;
    ++column;
    if (!cell.last) return;
    out += '\n';
    column = 0;
    owed = indent_;
    if (out.size() < kPortion) return;
    give(out);
    out.clear();
  });
  give(out);
}

std::size_t Table::natural_width() const {
  std::size_t sum = indent_, columns = 0;
  for (const std::size_t width : widths_) {
    sum += width;
    columns += width > 0 ? 1 : 0;
  }
  return sum + (columns > 1 ? 2 * (columns - 1) : 0);
}

/// The widest texts give first; the last column before all, as it can be wrapped.
std::vector<std::size_t> Table::widths_within(std::size_t width) const {
  std::vector<std::size_t> widths = widths_;
  const std::size_t natural = natural_width();
  std::size_t excess = natural > width ? natural - width : 0;
  const auto give = [&](std::size_t column, std::size_t least) {
    if (firm_[column] || widths[column] <= least) return;
    const std::size_t given = std::min(excess, widths[column] - least);
    widths[column] -= given;
    excess -= given;
  };
  for (std::size_t i = 0; i < widths.size(); ++i)
    if (yields_[i] && excess > 0) {
      excess -= std::min(excess, widths[i] + 2);
      widths[i] = 0;
    }
  if (!widths.empty() && last_ == Last::Wrap) give(widths.size() - 1, kLeastLast);
  while (excess > 0) {
    std::size_t widest = widths.size();
    const std::size_t end = widths.size() - (last_ == Last::Wrap ? 1 : 0);
    for (std::size_t i = 0; i < end; ++i)
      if (!firm_[i] && widths[i] > kLeast && (widest == widths.size() || widths[i] > widths[widest])) widest = i;
    if (widest == widths.size()) break;  // nothing more can be given: the terminal will have to break the lines
    --widths[widest];
    --excess;
  }
  return widths;
}

/// The lines of one cell. Only a last one has more than one; no word is broken.
std::vector<std::string> Table::pieces_of(const Entry& cell, std::string_view text, std::size_t width) const {
  if (cell.width <= width) return {std::string(text)};
  if (width == 0) return {""};
  if (!cell.last || last_ == Last::Cut) return {cut_to(text, width)};
  const std::string lines = wrapped(text, 0, width);
  const auto pieces = split(std::string_view(lines).substr(0, lines.size() - 1), '\n');
  return {pieces.begin(), pieces.end()};
}

template <typename Paint>
std::string Table::fitted(std::size_t width, const Paint& paint) const {
  const std::vector<std::size_t> widths = widths_within(width);
  std::string out;
  std::size_t column = 0, owed = indent_, beginning = indent_;  // beginning: of the cell, in columns
  each_cell([&](const Entry& cell, std::string_view text) {
    const auto pieces = pieces_of(cell, text, widths[column]);
    const std::size_t shown = std::min(display_width(pieces[0]), widths[column]), gap = widths[column] - shown;
    if (cell.right) owed += gap;
    if (cell.size > 0) {
      out.append(owed, ' ');
      owed = 0;
      paint(out, cell.style, pieces[0]);
      for (std::size_t i = 1; i < pieces.size(); ++i) {
        out += '\n';
        out.append(beginning, ' ');
        paint(out, cell.style, pieces[i]);
      }
    }
    if (!cell.right) owed += gap;
    if (widths[column] > 0) owed += 2;
    beginning += widths[column] + (widths[column] > 0 ? 2 : 0);
    ++column;
    if (!cell.last) return;
    out += '\n';
    column = 0;
    owed = beginning = indent_;
  });
  return out;
}

void Table::print(const Screen& screen) const {
  // each text is made fit for a terminal before it is painted: so the whole need not be looked at again
  const auto paint = [&](std::string& out, Style style, std::string_view text) {
    out += is_plain(text) ? screen.paint(style, text) : screen.paint(style, terminal_text(text, false, false));
  };
  if (output_is_terminal() && natural_width() > terminal_width()) return screen.write(fitted(terminal_width(), paint));
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

std::string Table::fitted_text(std::size_t width) const {
  return fitted(width, [](std::string& out, Style, std::string_view text) { out += text; });
}

}  // namespace hambrel::cli
