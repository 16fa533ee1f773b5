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
