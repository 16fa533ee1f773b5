// A report as a page: tiles, and sections of figures and tables. One file of HTML without scripts and without anything
// from elsewhere; light, dark and on paper by the style of whoever looks. The same value as plain text, for a mail.
#pragma once

#include <string>
#include <vector>

#include "report/drawing.h"

namespace hambrel::report {

enum class Mood { Plain, Good, Look, Bad };

struct Tile {
  std::string label, value, more{};
  Mood mood = Mood::Plain;
};

struct Cell {
  std::string text;
  enum class Kind { Plain, Name, Number, Code, Good, Look, Bad, Faint };
  Kind kind = Kind::Plain;
};
struct Column {
  std::string name;
  bool is_number = false;
};
struct PageTable {
  std::string title{};
  std::vector<Column> columns;
  std::vector<std::vector<Cell>> rows;
  std::string more{};  // what is not shown, and where it is
};

struct Section {
  std::string id, title, text{};
  std::vector<Figure> figures{};
  std::vector<PageTable> tables{};
};

struct Page {
  std::string title;
  std::vector<std::string> subtitles;
  std::vector<Tile> tiles;
  std::vector<std::string> gaps;  // what could not be looked at
  std::vector<Section> sections;
  std::string foot;
};

std::string html(const Page& page);
/// Lines of at most 74 characters as far as words allow; without figures.
std::string plain_text(const Page& page);
/// An RFC 5322 message: the plain text, and the page attached (RFC 2045 to 2047). `time`: seconds; `host`: of whoever
/// sends it. To whom it goes is said where it is sent.
std::string mail(const Page& page, std::int64_t time, const std::string& host);

}  // namespace hambrel::report
