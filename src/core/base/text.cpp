#include "base/text.h"

#include <utf8proc.h>

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <chrono>
#include <cmath>
#include <ctime>

namespace hambrel {

std::string to_hex(std::span<const std::byte> data) {
  static constexpr char digits[] = "0123456789abcdef";
  std::string text;
  text.reserve(2 * data.size());
  for (const std::byte value : data) {
    text.push_back(digits[std::to_integer<unsigned>(value) >> 4U]);
    text.push_back(digits[std::to_integer<unsigned>(value) & 15U]);
  }
  return text;
}

namespace {

// By hand: OpenSSL's is part of its general interface, whose tables every start of the program would relocate.
constexpr std::string_view kBase64 = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";

}  // namespace

std::string to_base64(std::string_view data) {
  std::string text;
  for (std::size_t i = 0; i < data.size(); i += 3) {
    const std::size_t count = std::min<std::size_t>(3, data.size() - i);
    std::uint32_t group = 0;
    for (std::size_t k = 0; k < 3; ++k) group = group << 8U | (k < count ? static_cast<std::uint8_t>(data[i + k]) : 0U);
    for (std::size_t k = 0; k < 4; ++k) text.push_back(k <= count ? kBase64[group >> (18 - 6 * k) & 63U] : '=');
  }
  return text;
}

std::optional<std::string> from_base64(std::string_view text) {
  if (text.size() % 4 != 0) return std::nullopt;
  std::string data;
  for (std::size_t i = 0; i < text.size(); i += 4) {
    std::uint32_t group = 0;
    std::size_t padding = 0;
    for (std::size_t k = 0; k < 4; ++k) {
      const auto value = kBase64.find(text[i + k]);
      const bool may_pad = i + 4 == text.size() && k >= 2;
      if (text[i + k] == '=' && may_pad)
        ++padding;
      else if (value == std::string_view::npos || padding > 0)
        return std::nullopt;
      group = group << 6U | (text[i + k] == '=' ? 0U : static_cast<std::uint32_t>(value));
    }
    for (std::size_t k = 0; k < 3 - padding; ++k) data.push_back(static_cast<char>(group >> (16 - 8 * k) & 255U));
  }
  return data;
}

std::string_view trim(std::string_view text) {
  const auto first = text.find_first_not_of(" \t\r\n");
  if (first == std::string_view::npos) return {};
  return text.substr(first, text.find_last_not_of(" \t\r\n") - first + 1);
}

std::vector<std::string_view> split(std::string_view text, char separator) {
  std::vector<std::string_view> parts;
  for (;;) {
    const auto at = text.find(separator);
    parts.push_back(text.substr(0, at));
    if (at == std::string_view::npos) return parts;
    text.remove_prefix(at + 1);
  }
}

std::string join(const std::vector<std::string>& parts, std::string_view separator) {
  return fmt::format("{}", fmt::join(parts, separator));
}

std::string first_of(std::vector<std::string> parts, std::size_t most) {
  const std::size_t more = parts.size() > most ? parts.size() - most : 0;
  parts.resize(parts.size() - more);
  return join(parts, ", ") + (more > 0 ? fmt::format(" and {} more", more) : "");
}

std::string lower(std::string_view text) {
  std::string result(text);
  for (char& c : result)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  return result;
}

namespace {

/// Length of the well-formed UTF-8 sequence at the start of a text, 0 if there is none.
std::size_t utf8_length(std::string_view text) {
  if (!text.empty() && static_cast<std::uint8_t>(text[0]) < 0x80) return 1;
  utf8proc_int32_t character = 0;
  const auto length = utf8proc_iterate(reinterpret_cast<const utf8proc_uint8_t*>(text.data()),
                                       static_cast<utf8proc_ssize_t>(text.size()), &character);
  return length > 0 ? static_cast<std::size_t>(length) : 0;
}

}  // namespace

bool is_utf8(std::string_view text) {
  while (!text.empty()) {
    const std::size_t length = utf8_length(text);
    if (length == 0) return false;
    text.remove_prefix(length);
  }
  return true;
}

namespace {

/// Bytes at the start of a text that must not reach a terminal as they are, 0 if it begins well. `length`: of the
/// character that it begins with, if it does with one.
std::size_t unfit_length(std::string_view text, std::size_t& length) {
  length = utf8_length(text);
  const auto lead = static_cast<std::uint8_t>(text[0]);
  const bool c1_control = length == 2 && lead == 0xC2 && static_cast<std::uint8_t>(text[1]) < 0xA0;
  if (c1_control) return 2;
  return length == 0 || lead < 0x20 || lead == 0x7F ? 1 : 0;
}

void add_escaped(std::string& result, std::string_view bytes) {
  for (const char byte : bytes) result += fmt::format("\\x{:02x}", static_cast<std::uint8_t>(byte));
}

/// The length of a style code (ECMA-48, SGR) at the start of a text, 0 if there is none.
std::size_t style_length(std::string_view text) {
  if (!text.starts_with("\033[")) return 0;
  const auto end = text.find_first_not_of("0123456789;", 2);
  return end == std::string_view::npos || text[end] != 'm' ? 0 : end + 1;
}

}  // namespace

std::string printable(std::string_view text) {
  if (is_plain(text)) return std::string(text);
  std::string result;
  while (!text.empty()) {
    std::size_t length = 0;
    const std::size_t unfit = unfit_length(text, length);
    if (unfit > 0)
      add_escaped(result, text.substr(0, unfit));
    else
      result.append(text.substr(0, length));
    text.remove_prefix(unfit > 0 ? unfit : length);
  }
  return result;
}

std::string printable_line(std::string_view line) {
  constexpr std::size_t kTab = 8;
  std::string flat;
  for (const char c : line)
    if (c == '\t')
      flat.append(kTab - flat.size() % kTab, ' ');
    else if (c != '\r')
      flat += c;
  return printable(flat);
}

std::string terminal_text(std::string_view text, bool styled, bool json) {
  std::string result;
  result.reserve(text.size());
  while (!text.empty()) {
    const auto good = std::find_if(text.begin(), text.end(), [](char c) { return (c < ' ' && c != '\n') || c > '~'; });
    result.append(text.begin(), good);
    text.remove_prefix(static_cast<std::size_t>(good - text.begin()));
    if (text.empty()) break;
    std::size_t length = styled ? style_length(text) : 0;
    const std::size_t unfit = length > 0 ? 0 : unfit_length(text, length);
    if (unfit == 2 && json)
      result += fmt::format("\\u{:04x}", static_cast<std::uint8_t>(text[1]));
    else if (unfit == 1 && json)
      result += length == 0 ? "\\ufffd" : fmt::format("\\u{:04x}", static_cast<std::uint8_t>(text[0]));
    else if (unfit > 0)
      add_escaped(result, text.substr(0, unfit));
    else
      result.append(text.substr(0, length));
    text.remove_prefix(unfit > 0 ? unfit : length);
  }
  return result;
}

std::optional<std::uint64_t> parse_number(std::string_view text) {
  std::uint64_t value = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (problem != std::errc() || end != text.data() + text.size() || text.empty()) return std::nullopt;
  return value;
}

std::optional<std::uint64_t> parse_size(std::string_view text) {
  double unit = 1;
  if (!text.empty())
    if (const auto power = std::string_view("KMGT").find(static_cast<char>(std::toupper(text.back())));
        power != std::string_view::npos) {
      unit = std::pow(1024.0, static_cast<double>(power + 1));
      text.remove_suffix(1);
    }
  double value = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (problem != std::errc() || end != text.data() + text.size() || text.empty() || !(value >= 0) ||
      value * unit > 1e18)
    return std::nullopt;
  return static_cast<std::uint64_t>(value * unit);
}

std::string url_segment(std::string_view text) {
  std::string result;
  for (const char c : text) {
    const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                       std::string_view("-._~").find(c) != std::string_view::npos;
    if (plain)
      result.push_back(c);
    else
      result += fmt::format("%{:02X}", static_cast<std::uint8_t>(c));
  }
  return result;
}

std::string shell_quoted(std::string_view word) {
  const auto harmless = [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
           std::string_view("/._-+:,@%=").find(c) != std::string_view::npos || static_cast<std::uint8_t>(c) >= 0x80;
  };
  if (!word.empty() && std::all_of(word.begin(), word.end(), harmless)) return std::string(word);
  std::string result = "'";
  for (const char c : word) result += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return result + "'";
}

std::string shown_url(std::string_view text) {
  std::string result;
  for (auto at = text.find("://"); at != std::string_view::npos; at = text.find("://")) {
    result += text.substr(0, at + 3);
    text.remove_prefix(at + 3);
    const auto authority = text.substr(0, text.find_first_of("/?# '\"\t\n"));
    const auto end = authority.rfind('@');
    if (end == std::string_view::npos) continue;
    result += "***";
    text.remove_prefix(end);
  }
  return result += text;
}

namespace {

// Iterative matcher with one backtrack point a star; a "**" point may swallow '/', a "*" point may not when paths are
// meant.
bool match(std::string_view pattern, std::string_view text, bool paths) {
  struct Point {
    std::size_t pattern, text;
  };
  std::optional<Point> star, double_star;
  std::size_t p = 0, t = 0;
  while (true) {
    if (p < pattern.size() && pattern[p] == '*') {
      const bool twice = !paths || (p + 1 < pattern.size() && pattern[p + 1] == '*');
      while (p < pattern.size() && pattern[p] == '*') ++p;
      // "**/" also matches nothing at all
      if (twice && paths && p < pattern.size() && pattern[p] == '/' &&
          match(pattern.substr(p + 1), text.substr(t), paths))
        return true;
      if (twice && p == pattern.size()) return true;
      if (twice) {
        double_star = Point{p, t};
        star.reset();
      } else
        star = Point{p, t};
      continue;
    }
    if (t == text.size() && p == pattern.size()) return true;
    if (t < text.size() && p < pattern.size() &&
        (pattern[p] == text[t] || (pattern[p] == '?' && !(paths && text[t] == '/')))) {
      ++p;
      ++t;
      continue;
    }
    if (star && star->text < text.size() && text[star->text] != '/') {
      t = ++star->text;
      p = star->pattern;
      continue;
    }
    if (double_star && double_star->text < text.size()) {
      t = ++double_star->text;
      p = double_star->pattern;
      star.reset();
      continue;
    }
    return false;
  }
}

}  // namespace

bool glob_match(std::string_view pattern, std::string_view text) { return match(pattern, text, false); }
bool path_glob_match(std::string_view pattern, std::string_view path) { return match(pattern, path, true); }

std::size_t edit_distance(std::string_view a, std::string_view b, std::size_t limit) {
  const std::size_t difference = a.size() > b.size() ? a.size() - b.size() : b.size() - a.size();
  if (difference > limit) return limit + 1;
  std::vector<std::size_t> before(b.size() + 1), last(b.size() + 1), now(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) last[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    now[0] = i;
    std::size_t best = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      now[j] = std::min({last[j] + 1, now[j - 1] + 1, last[j - 1] + (a[i - 1] == b[j - 1] ? 0U : 1U)});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1]) now[j] = std::min(now[j], before[j - 2] + 1);
      best = std::min(best, now[j]);
    }
    if (best > limit) return limit + 1;
    before.swap(last);
    last.swap(now);
  }
  return std::min(last[b.size()], limit + 1);
}

std::vector<std::string> similar(std::string_view word, const std::vector<std::string>& candidates, std::size_t most) {
  std::size_t limit = 3;
  if (word.size() <= 7) limit = 2;
  if (word.size() <= 3) limit = 1;
  std::vector<std::pair<std::size_t, std::string>> near;
  for (const std::string& candidate : candidates) {
    std::size_t distance = edit_distance(word, candidate, limit);
    // a word that was cut short is as good a guess as one slip of the finger
    if (distance > limit && word.size() >= 3 && candidate.starts_with(word)) distance = limit;
    if (distance <= limit) near.emplace_back(distance, candidate);
  }
  std::sort(near.begin(), near.end());
  near.erase(std::unique(near.begin(), near.end()), near.end());
  std::vector<std::string> result;
  for (std::size_t i = 0; i < std::min(most, near.size()); ++i) result.push_back(near[i].second);
  return result;
}

std::string did_you_mean(std::string_view word, const std::vector<std::string>& candidates) {
  const auto near = similar(word, candidates);
  if (near.empty()) return {};
  std::string text = "did you mean " + near.front();
  for (std::size_t i = 1; i < near.size(); ++i) text += (i + 1 == near.size() ? " or " : ", ") + near[i];
  return text + "?";
}

std::string utc_text(std::int64_t seconds) {
  const std::time_t time = seconds;
  std::tm parts{};
  gmtime_r(&time, &parts);
  return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}Z", parts.tm_year + 1900, parts.tm_mon + 1, parts.tm_mday,
                     parts.tm_hour, parts.tm_min, parts.tm_sec);
}

std::optional<std::int64_t> parse_utc(std::string_view text) {
  constexpr std::size_t kSize = std::string_view("2026-11-26T12:00:00Z").size(), kDate = 10;
  if (text.size() != kSize || text[kDate] != 'T' || text[13] != ':' || text[16] != ':' || text.back() != 'Z')
    return std::nullopt;
  const auto day = parse_date(text.substr(0, kDate));
  const auto hours = parse_number(text.substr(11, 2)), minutes = parse_number(text.substr(14, 2)),
             seconds = parse_number(text.substr(17, 2));
  if (!day || !hours || !minutes || !seconds) return std::nullopt;
  return *day + static_cast<std::int64_t>(*hours * 3600 + *minutes * 60 + *seconds);
}

std::optional<std::int64_t> parse_date(std::string_view text) {
  if (text.size() != 10 || text[4] != '-' || text[7] != '-') return std::nullopt;
  const auto year = parse_number(text.substr(0, 4)), month = parse_number(text.substr(5, 2)),
             day = parse_number(text.substr(8, 2));
  if (!year || !month || !day) return std::nullopt;
  const std::chrono::year_month_day date{std::chrono::year(static_cast<int>(*year)),
                                         std::chrono::month(static_cast<unsigned>(*month)),
                                         std::chrono::day(static_cast<unsigned>(*day))};
  if (!date.ok()) return std::nullopt;
  return std::chrono::duration_cast<std::chrono::seconds>(std::chrono::sys_days(date).time_since_epoch()).count();
}

std::optional<std::int64_t> parse_http_date(std::string_view text) {
  constexpr std::string_view kForm = "Sun, 06 Nov 1994 08:49:37 GMT", kMonths = "JanFebMarAprMayJunJulAugSepOctNovDec";
  if (text.size() != kForm.size() || !text.ends_with(" GMT")) return std::nullopt;
  const auto month = kMonths.find(text.substr(8, 3));
  if (month == std::string_view::npos || month % 3 != 0) return std::nullopt;
  return parse_utc(
      fmt::format("{}-{:02}-{}T{}Z", text.substr(12, 4), month / 3 + 1, text.substr(5, 2), text.substr(17, 8)));
}

}  // namespace hambrel
