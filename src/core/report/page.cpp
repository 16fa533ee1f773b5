#include "report/page.h"

#include <fmt/format.h>

#include <array>
#include <ctime>

#include <kainjow/mustache.hpp>

#include "base/digest.h"
#include "base/error.h"
#include "base/text.h"
#include "report/render.h"

namespace hambrel::report {

extern const char* const kPageTemplate;  // page.html

namespace {

namespace mustache = kainjow::mustache;
using mustache::data;

const char* name_of(Mood mood) {
  switch (mood) {
    case Mood::Plain: return "";
    case Mood::Good: return "good";
    case Mood::Look: return "look";
    case Mood::Bad: return "bad";
  }
  return "";
}

const char* name_of(Cell::Kind kind) {
  using Kind = Cell::Kind;
  switch (kind) {
    case Kind::Plain: return "";
    case Kind::Name: return "name";
    case Kind::Number: return "number";
    case Kind::Code: return "code";
    case Kind::Good: return "good";
    case Kind::Look: return "look";
    case Kind::Bad: return "bad";
    case Kind::Faint: return "faint";
  }
  return "";
}

template <typename List, typename Make>
data list_from(const List& list, const Make& make) {
  data all(data::type::list);
  for (const auto& one : list) all << make(one);
  return all;
}

data texts(const std::vector<std::string>& list) {
  return list_from(list, [](const std::string& one) { return data{"text", one}; });
}

/// A section of the template that is empty where there is no text.
data section_text(const std::string& text) {
  data list(data::type::list);
  if (!text.empty()) list << data{"text", text};
  return list;
}

/// A long text must neither break a short one beside it in the middle of its words, nor become a column of letters.
std::string classes_of(const Cell& cell) {
  constexpr std::size_t kShort = 22;  // bytes: a time is 20
  std::string classes = name_of(cell.kind);
  if (cell.text.empty()) return classes;
  if (!classes.empty()) classes += ' ';
  return classes + (cell.text.size() <= kShort ? "short" : "long");
}

data data_of(const PageTable& table) {
  data object;
  data title(data::type::list), more(data::type::list);
  if (!table.title.empty()) title << data{"title", table.title};
  if (!table.more.empty()) more << data{"more", table.more};
  object.set("title", title);
  object.set("more", more);
  object.set("columns", list_from(table.columns, [](const Column& one) {
               data column;
               column.set("name", one.name);
               column.set("number", data(one.is_number));
               return column;
             }));
  object.set("rows", list_from(table.rows, [](const std::vector<Cell>& row) {
               data cells;
               cells.set("cells", list_from(row, [](const Cell& one) {
                           data cell;
                           cell.set("text", one.text);
                           data classes(data::type::list);
                           const std::string all = classes_of(one);
                           if (!all.empty()) classes << data{"classes", all};
                           cell.set("classes", classes);
                           return cell;
                         }));
               return cells;
             }));
  return object;
}

data data_of(const Section& section) {
  data object;
  object.set("id", section.id);
  object.set("title", section.title);
  object.set("text", section_text(section.text));
  object.set("has_figures", data(!section.figures.empty()));
  object.set("figures", list_from(section.figures, [](const Figure& one) {
               data figure;
               figure.set("svg", svg(one.drawing, false));
               figure.set("caption", one.caption);
               return figure;
             }));
  object.set("tables", list_from(section.tables, [](const PageTable& one) { return data_of(one); }));
  return object;
}

}  // namespace

std::string html(const Page& page) {
  data object;
  object.set("version", std::string(HAMBREL_VERSION));
  object.set("title", page.title);
  object.set("palette", palette_css());
  object.set("subtitles", texts(page.subtitles));
  object.set("has_tiles", data(!page.tiles.empty()));
  object.set("tiles", list_from(page.tiles, [](const Tile& one) {
               data tile;
               tile.set("label", one.label);
               tile.set("value", one.value);
               tile.set("mood", std::string(name_of(one.mood)));
               tile.set("more", section_text(one.more));
               return tile;
             }));
  object.set("gaps", texts(page.gaps));
  object.set("sections", list_from(page.sections, [](const Section& one) { return data_of(one); }));
  object.set("foot", page.foot);
  mustache::mustache whole(kPageTemplate);
  whole.set_custom_escape([](const std::string& text) { return escaped(text); });
  if (!whole.is_valid()) throw Error(ErrorCode::Internal, "the page's template: " + whole.error_message());
  return whole.render(object);
}

namespace {

constexpr std::size_t kWidestLine = 74;

void add_wrapped(const std::string& text, const std::string& indent, std::string& into) {
  std::string line = indent;
  const std::string shown = printable_line(text);
  for (const std::string_view word : split(shown, ' ')) {
    if (line.size() > indent.size() && line.size() + 1 + word.size() > kWidestLine) {
      into += line + "\n";
      line = indent;
    }
    if (line.size() > indent.size()) line += ' ';
    line += word;
  }
  into += line + "\n";
}

}  // namespace

std::string plain_text(const Page& page) {
  std::string text =
      printable_line(page.title) + "\n" + std::string(std::min(page.title.size(), kWidestLine), '-') + "\n";
  for (const std::string& one : page.subtitles) add_wrapped(one, "", text);
  text += "\n";
  for (const Tile& one : page.tiles)
    add_wrapped(fmt::format("{}: {}{}", one.label, one.value, one.more.empty() ? "" : fmt::format(" ({})", one.more)),
                "", text);
  for (const std::string& one : page.gaps) add_wrapped("Not looked at: " + one, "", text);
  for (const Section& section : page.sections) {
    text += fmt::format("\n{}\n{}\n", printable_line(section.title), std::string(section.title.size(), '-'));
    if (!section.text.empty()) add_wrapped(section.text, "", text);
    for (const Figure& one : section.figures) add_wrapped(one.caption, "", text);
    for (const PageTable& table : section.tables) {
      if (!table.title.empty()) text += fmt::format("{}:\n", printable_line(table.title));
      std::vector<std::string> names;
      for (const Column& one : table.columns) names.push_back(one.name);
      if (!table.rows.empty()) add_wrapped(fmt::format("({})", join(names, ", ")), "  ", text);
      for (const auto& row : table.rows) {
        std::vector<std::string> cells;
        for (const Cell& one : row)
          if (!one.text.empty()) cells.push_back(one.text);
        add_wrapped(join(cells, "  "), "  ", text);
      }
      if (!table.more.empty()) add_wrapped(table.more, "  ", text);
    }
  }
  return text + "\n" + printable_line(page.foot) + "\n";
}

namespace {

/// RFC 2045, 6.7.
std::string quoted_printable(const std::string& text) {
  constexpr std::size_t kMost = 75;
  std::string result;
  for (const std::string_view line : split(text, '\n')) {
    std::string out;
    for (std::size_t i = 0; i < line.size(); ++i) {
      const auto c = static_cast<unsigned char>(line[i]);
      const bool is_last = i + 1 == line.size();
      const bool is_plain = (c > ' ' && c < 0x7f && c != '=') || (c == ' ' && !is_last);
      const std::string piece = is_plain ? std::string(1, line[i]) : fmt::format("={:02X}", c);
      if (out.size() + piece.size() > kMost) {
        result += out + "=\r\n";
        out.clear();
      }
      out += piece;
    }
    result += out + "\r\n";
  }
  return result;
}

/// RFC 2047 where it is not plain ASCII, in words that are short enough.
std::string header_text(const std::string& given) {
  const std::string text = printable_line(given);
  const bool is_ascii =
      std::all_of(text.begin(), text.end(), [](char c) { return static_cast<unsigned char>(c) < 0x80; });
  constexpr std::size_t kMostPlain = 900, kMostInWord = 42;
  if (is_ascii && text.size() < kMostPlain) return text;
  std::string result;
  for (std::size_t at = 0; at < text.size();) {
    std::size_t end = std::min(text.size(), at + kMostInWord);
    while (end < text.size() && (static_cast<unsigned char>(text[end]) & 0xc0) == 0x80) --end;
    result += fmt::format("{}=?UTF-8?B?{}?=", result.empty() ? "" : "\r\n ", to_base64(text.substr(at, end - at)));
    at = end;
  }
  return result;
}

std::string base64_lines(const std::string& bytes) {
  constexpr std::size_t kLine = 76;
  const std::string text = to_base64(bytes);
  std::string lines;
  for (std::size_t at = 0; at < text.size(); at += kLine) lines += text.substr(at, kLine) + "\r\n";
  return lines;
}

/// As RFC 5322, 3.3 has it, in UTC.
std::string mail_time(std::int64_t seconds) {
  static constexpr std::array<const char*, 7> kDays{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"};
  static constexpr std::array<const char*, 12> kMonths{"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                                       "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};
  const std::time_t time = seconds;
  std::tm parts{};
  ::gmtime_r(&time, &parts);
  return fmt::format("{}, {:02} {} {} {:02}:{:02}:{:02} +0000", kDays[static_cast<std::size_t>(parts.tm_wday)],
                     parts.tm_mday, kMonths[static_cast<std::size_t>(parts.tm_mon)], parts.tm_year + 1900,
                     parts.tm_hour, parts.tm_min, parts.tm_sec);
}

/// A name of a host as an address may have it.
std::string host_text(const std::string& host) {
  std::string name;
  for (const char c : host)
    if ((c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' || c == '.') name += c;
  return name.empty() || name.front() == '.' || name.back() == '.' || name.find("..") != std::string::npos ? "localhost"
                                                                                                           : name;
}

}  // namespace

std::string mail(const Page& page, std::int64_t time, const std::string& host) {
  const std::string attached = html(page);
  const std::string id = sha256(attached).hex().substr(0, 32), boundary = "part-" + id;
  std::string text = fmt::format(
      "From: Hambrel <hambrel@{0}>\r\nDate: {1}\r\nMessage-ID: <{2}.{3}@{0}>\r\nSubject: {4}\r\n"
      "MIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=\"{5}\"\r\n\r\n",
      host_text(host), mail_time(time), time, id, header_text(page.title), boundary);
  text += fmt::format(
      "--{0}\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n{1}\r\n"
      "--{0}\r\nContent-Type: text/html; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n"
      "Content-Disposition: attachment; filename=\"report.html\"\r\n\r\n{2}\r\n--{0}--\r\n",
      boundary, quoted_printable(plain_text(page)), base64_lines(attached));
  return text;
}

}  // namespace hambrel::report
