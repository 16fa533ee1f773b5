#include "report/axis.h"

#include <fmt/format.h>

#include <array>
#include <cmath>
#include <ctime>

#include "base/amounts.h"

namespace hambrel::report {

namespace {

constexpr std::int64_t kMinute = 60, kHour = 60 * kMinute, kDay = 24 * kHour;
constexpr std::size_t kMostTicks = 6;

/// The smallest of 1, 2, 5, 10, 20, ... steps that needs no more than kMostTicks of them.
double round_step(double most) {
  double step = 1;
  for (;;)
    for (const double factor : {1.0, 2.0, 5.0}) {
      if (most <= step * factor * (kMostTicks - 1)) return step * factor;
      if (factor > 2) step *= 10;
    }
}

std::tm local(std::int64_t seconds) {
  const std::time_t time = seconds;
  std::tm parts{};
  ::localtime_r(&time, &parts);
  return parts;
}

std::int64_t moment(std::tm parts) {
  parts.tm_isdst = -1;
  return std::mktime(&parts);
}

std::string text_of(const std::tm& parts, const char* format) {
  constexpr std::size_t kMost = 32;
  std::array<char, kMost> text{};
  return {text.data(), std::strftime(text.data(), text.size(), format, &parts)};
}

}  // namespace

std::vector<Tick> count_ticks(double most) {
  const double step = round_step(most);
  std::vector<Tick> ticks;
  for (double at = 0; at < most + step && ticks.size() <= kMostTicks; at += step) {
    ticks.push_back({at, fmt::format("{:.0f}", at)});
    if (at >= most) break;
  }
  return ticks;
}

std::vector<Tick> byte_ticks(double most) {
  constexpr double kUnit = 1024;
  double unit = 1;
  while (most / unit > kUnit) unit *= kUnit;
  std::vector<Tick> ticks = count_ticks(most / unit);
  for (Tick& one : ticks) {
    one.at *= unit;
    one.label = one.at == 0 ? "0" : size_text(static_cast<std::uint64_t>(one.at));
  }
  return ticks;
}

std::vector<Tick> time_ticks(std::int64_t from, std::int64_t to, std::size_t most_ticks) {
  std::vector<Tick> ticks;
  const std::int64_t span = std::max<std::int64_t>(1, to - from);
  const auto fits = [&](std::int64_t step) { return span / step + 1 <= static_cast<std::int64_t>(most_ticks); };
  for (const std::int64_t step : {kMinute, 5 * kMinute, 15 * kMinute, kHour, 6 * kHour}) {
    if (!fits(step)) continue;
    std::tm parts = local(from);
    parts.tm_hour = parts.tm_min = parts.tm_sec = 0;
    for (std::int64_t at = moment(parts); at <= to; at += step)
      if (at >= from) ticks.push_back({static_cast<double>(at), text_of(local(at), "%m-%d %H:%M")});
    return ticks;
  }
  for (const int days : {1, 2, 7, 14}) {
    if (!fits(days * kDay)) continue;
    std::tm parts = local(from);
    parts.tm_hour = parts.tm_min = parts.tm_sec = 0;
    for (std::int64_t at = moment(parts); at <= to; parts.tm_mday += days, at = moment(parts))
      if (at >= from) ticks.push_back({static_cast<double>(at), text_of(local(at), "%Y-%m-%d")});
    return ticks;
  }
  constexpr std::int64_t kMonth = 31 * kDay;
  constexpr int kCentury = 1200;
  int months = kCentury;
  for (const int step : {kCentury, 120, 60, 24, 12, 6, 3, 2, 1})
    if (fits(step * kMonth)) months = step;
  std::tm parts = local(from);
  parts.tm_hour = parts.tm_min = parts.tm_sec = 0;
  parts.tm_mday = 1;
  if (months > 1) parts.tm_mon -= parts.tm_mon % std::min(months, 12);
  for (std::int64_t at = moment(parts); at <= to; parts.tm_mon += months, at = moment(parts))
    if (at >= from) ticks.push_back({static_cast<double>(at), text_of(local(at), "%Y-%m")});
  return ticks;
}

}  // namespace hambrel::report
