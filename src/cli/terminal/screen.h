// What the program shows: styles, widths, tables, sizes and times for people. Everything that is printed goes through
// Screen, and no byte that could drive a terminal passes it, wherever it came from, but Screen's own style codes.
#pragma once

#include <cstdint>
#include <initializer_list>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/amounts.h"

namespace hambrel::cli {

enum class Style : std::uint8_t { Plain, Strong, Faint, Come, Change, Go, Warn, Name };

class Screen {
 public:
  enum class Color { Auto, Always, Never };
  explicit Screen(Color color, bool json = false);

  /// Commands that lines, notes and hints show are given this root from now on (command_text.h).
  void acts_on(const std::string& root) { root_ = root; }

  void line(std::string_view text = {}) const;  // to standard output
  /// Indented, and on a terminal wrapped between words.
  void paragraph(std::string_view text, std::size_t indent) const;
  void paragraph(std::string_view text, std::size_t indent, std::size_t width) const;
  /// Lines as they are; on a terminal, those that are too long for it are broken between words.
  void sentence(std::string_view text, std::size_t hanging = 0) const;
  void raw(std::string_view text) const;
  /// What holds nothing from outside that was not made fit for a terminal.
  void write(std::string_view text) const;
  /// To standard error, broken between words on a terminal, as are the next two.
  void note(std::string_view text) const;
  /// The same with the commands in it as they are: what it names was not run with a root.
  void problem(std::string_view text, std::size_t hanging = 2) const;
  void hint(std::string_view text) const;    // what to do next, under a message
  void event(std::string_view lines) const;  // whole lines to standard error, never broken
  /// Something to know before agreeing, beside a plan; wrapped between words on a terminal.
  void remark(std::string_view text) const;
  /// "  label       text", of a thing's facts below each other; nothing for an empty text.
  void field(std::string_view label, std::string_view text) const;
  std::string paint(Style style, std::string_view text) const;
  std::string paint_error(Style style, std::string_view text) const;  // for standard error
  /// From now on what is written to standard output is held, until end_page() shows it whole: in a pager if it is
  /// longer than the terminal. Whoever asks something shows first what is held.
  void begin_page() const { held_.emplace(); }
  void end_page() const;
  void show_held() const;
  bool color() const { return color_; }
  bool wrote() const { return wrote_; }  // anything to standard output

 private:
  bool color_, error_color_, json_;
  std::string root_ = "/";
  mutable bool wrote_ = false;
  mutable std::optional<std::string> held_;
};

/// Wraps words to a width, each line indented. A command (`like this`, or from "hambrel" to the end) that fits on a
/// line stays whole.
std::string wrapped(std::string_view text, std::size_t indent, std::size_t width);
/// Whole lines; those that are wider than `width` go on below, indented by `hanging` more than they are. Commands stay
/// whole: those that are wider are left to the terminal, which breaks what it shows and not what is copied.
std::string fitted(std::string_view text, std::size_t hanging, std::size_t width);

bool input_is_terminal();
bool output_is_terminal();
bool error_is_terminal();
std::size_t terminal_width();  // of standard error or output, 80 if unknown
std::size_t terminal_rows();   // 24 if unknown
/// A line from standard input; false at its end.
bool read_line(std::string& line);
/// Is there somebody to ask: a terminal to answer on, and one that shows the question?
bool can_ask();
/// Asks "QUESTION (FORM)" on the terminal, which is standard error where the output goes elsewhere, and on the line
/// below it gets the answer, given without blanks around it; nothing at the end of the input.
std::optional<std::string> ask(const Screen& screen, std::string_view question, std::string_view form);

}  // namespace hambrel::cli
