#include "base/amounts.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <ctime>

#include "base/text.h"

namespace hambrel {

std::string size_text(std::uint64_t bytes) {
  if (bytes < 1024) return fmt::format("{} B", bytes);
  double value = static_cast<double>(bytes);
  const char* unit = "";
  for (const char* next : {"KiB", "MiB", "GiB", "TiB"}) {
    value /= 1024;
    unit = next;
    if (value < 999.5) break;
  }
  return value < 9.95 ? fmt::format("{:.1f} {}", value, unit) : fmt::format("{:.0f} {}", value, unit);
}

std::string change_text(std::int64_t bytes) {
  if (bytes == 0) return "0 B";
  const auto size = static_cast<std::uint64_t>(bytes < 0 ? -bytes : bytes);
  return (bytes < 0 ? "-" : "+") + size_text(size);
}

std::string time_text(std::int64_t seconds) {
  const auto time = static_cast<std::time_t>(seconds);
  std::tm local{};
  if (::localtime_r(&time, &local) == nullptr || local.tm_gmtoff == 0) {
    const std::string text = utc_text(seconds);
    return text.substr(0, 10) + " " + text.substr(11, 5) + " UTC";
  }
  const long offset = std::abs(local.tm_gmtoff) / 60;  // minutes
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02} {}{:02}:{:02}", local.tm_year + 1900, local.tm_mon + 1,
                     local.tm_mday, local.tm_hour, local.tm_min, local.tm_gmtoff < 0 ? '-' : '+', offset / 60,
                     offset % 60);
}

std::optional<std::int64_t> parse_moment(std::string_view text, std::int64_t now) {
  const auto start_of_day = [](std::int64_t moment, int days_before) {
    const auto time = static_cast<std::time_t>(moment);
    std::tm day{};
    if (::localtime_r(&time, &day) == nullptr) return moment;
    day.tm_hour = day.tm_min = day.tm_sec = 0;
    day.tm_mday -= days_before;
    day.tm_isdst = -1;  // whatever it is on that day
    return static_cast<std::int64_t>(std::mktime(&day));
  };
  if (text == "today") return start_of_day(now, 0);
  if (text == "yesterday") return start_of_day(now, 1);
  if (const auto unit = text.empty() ? std::string_view::npos : std::string_view("mhdw").find(text.back());
      unit != std::string_view::npos) {
    constexpr std::int64_t kSeconds[] = {60, 3600, 86400, 7 * 86400};
    constexpr std::uint64_t kMost = 1'000'000;
    const auto count = parse_number(text.substr(0, text.size() - 1));
    return count && *count <= kMost ? std::optional(now - static_cast<std::int64_t>(*count) * kSeconds[unit])
                                    : std::nullopt;
  }
  const auto day = parse_date(text.substr(0, 10));
  const std::string_view clock = text.size() > 10 ? text.substr(10) : " 00:00";
  const bool is_clock = clock.size() == 6 && (clock[0] == ' ' || clock[0] == 'T') && clock[3] == ':';
  const auto hour = is_clock ? parse_number(clock.substr(1, 2)) : std::nullopt,
             minute = is_clock ? parse_number(clock.substr(4, 2)) : std::nullopt;
  if (!day || !hour || !minute || *hour > 23 || *minute > 59) return std::nullopt;
  std::tm parts{};
  const auto time = static_cast<std::time_t>(*day);
  if (::gmtime_r(&time, &parts) == nullptr) return std::nullopt;
  parts.tm_hour = static_cast<int>(*hour);
  parts.tm_min = static_cast<int>(*minute);
  parts.tm_isdst = -1;
  return static_cast<std::int64_t>(std::mktime(&parts));
}

std::string age_text(std::int64_t now, std::int64_t then) {
  const std::int64_t age = std::max<std::int64_t>(0, now - then);
  const auto say = [](std::int64_t count, const char* unit) {
    return fmt::format("{} {}{} ago", count, unit, count == 1 ? "" : "s");
  };
  if (age < 60) return "just now";
  if (age < 3600) return say(age / 60, "minute");
  if (age < 48 * 3600) return say(age / 3600, "hour");
  return say(age / 86400, "day");
}

std::string count_text(std::size_t count, std::string_view one, std::string_view many) {
  return fmt::format("{} {}", count, count == 1 ? one : many);
}

}  // namespace hambrel
