// Tables: rows with aligned columns, two spaces between them, indented; no rules, no trailing blanks.
//
// On a terminal a table is never wider than the window: the widest columns of texts get narrower, down to a least
// width, and what does not fit is cut with an ellipsis; the last column, where it is a text, is wrapped between words
// under its own beginning. Numbers, versions in plans, and what can be copied (commands in the last column), are never
// cut. Elsewhere every column has its full width.
#pragma once

#include <cstdint>
#include <functional>
#include <initializer_list>
#include <string>
#include <string_view>
#include <vector>

#include "cli/terminal/screen.h"

namespace hambrel::cli {

/// Columns of a terminal that a text takes: grapheme clusters by utf8proc, each as wide as its widest code point.
std::size_t display_width(std::string_view text);

/// The beginning of a text that takes at most so many columns, with an ellipsis where something is left out.
std::string cut_to(std::string_view text, std::size_t columns);

/// A text as printable() makes it, without a copy of what is fit already.
class Printable {
 public:
  explicit Printable(std::string_view text);
  operator std::string_view() const { return made_.empty() ? text_ : made_; }

 private:
  std::string_view text_;
  std::string made_;
};

struct Cell {
  std::string_view text;  // may be a temporary: a row copies it
  Style style = Style::Plain;
  bool right = false;
  bool firm = false;    // its column is never cut, as those that stand on the right are not
  bool yields = false;  // its column is left out where not all of them fit
};

class Table {
 public:
  /// What becomes of a last column that is too long for the terminal.
  enum class Last { Wrap, Cut };
  explicit Table(std::size_t indent = 2, Last last = Last::Wrap) : indent_(indent), last_(last) {}
  void row(std::initializer_list<Cell> cells);
  void expect(std::size_t rows);  // about so many are to come
  /// `empty` with so many rows, each of which `add` adds to the table that it is given; called in several threads.
  static Table of_rows(std::size_t count, const Table& empty, const std::function<void(Table&, std::size_t)>& add);
  bool empty() const { return widths_.empty(); }
  void print(const Screen& screen) const;
  std::string text() const;                          // without colours, as wide as it is
  std::string fitted_text(std::size_t width) const;  // the same within so many columns

 private:
  struct Entry {
    std::uint32_t size, width;  // bytes, columns
    Style style;
    bool right, last;  // last: of its row
  };
  // one list of cells and one of their texts: a list of thousands of rows makes no thousands of pieces
  struct Portion {
    std::vector<Entry> cells;
    std::string texts;
  };
  void append(Table&& below);
  template <typename Function>
  void each_cell(Function f) const;
  template <typename Paint, typename Give>
  void write(const Paint& paint, const Give& give) const;
  template <typename Paint>
  std::string fitted(std::size_t width, const Paint& paint) const;
  std::size_t natural_width() const;
  std::vector<std::size_t> widths_within(std::size_t width) const;
  std::vector<std::string> pieces_of(const Entry& cell, std::string_view text, std::size_t width) const;

  std::size_t indent_;
  Last last_;
  std::vector<Portion> portions_{1};  // rows are added to the last
  std::vector<std::size_t> widths_;
  std::vector<bool> firm_;    // by column: some cell of it stands on the right or is firm
  std::vector<bool> yields_;  // by column
};

}  // namespace hambrel::cli
