#include "cli/terminal/progress.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdio>

#include "os/host.h"

namespace hambrel::cli {

namespace {
constexpr std::int64_t kPatience = 200, kRedraw = 80;  // milliseconds
constexpr std::size_t kBar = 24;
}  // namespace

void Progress::begin(std::string_view activity, std::uint64_t total, Unit unit) {
  activity_ = activity;
  total_ = total;
  unit_ = unit;
  started_ = os::monotonic_milliseconds();
  drawn_ = 0;
}

void Progress::progress(std::uint64_t done) {
  if (quiet_ || activity_.empty() || !terminal_) return;
  const std::int64_t now = os::monotonic_milliseconds();
  if (now - started_ < kPatience || now - drawn_ < kRedraw) return;
  drawn_ = now;
  const auto amount = [&](std::uint64_t value) {
    return unit_ == Unit::Bytes ? size_text(value) : fmt::format("{}", value);
  };
  std::string text = fmt::format("\r\033[K{}  ", activity_);
  if (total_ > 0) {
    const double part = std::min(1.0, static_cast<double>(done) / static_cast<double>(total_));
    const auto full = static_cast<std::size_t>(part * kBar);
    text += screen_.paint_error(Style::Come, std::string(full, '=')) + std::string(kBar - full, '.');
    text += fmt::format("  {} of {}", amount(done), amount(total_));
  } else {
    text += amount(done);
  }
  std::fputs(text.c_str(), stderr);
  std::fflush(stderr);
  shown_ = true;
}

void Progress::wipe() {
  if (shown_) std::fputs("\r\033[K", stderr);
  shown_ = false;
}

void Progress::end() {
  wipe();
  activity_.clear();
}

void Progress::note(std::string_view text) {
  wipe();
  if (!quiet_) screen_.note(fmt::format("{}: {}", screen_.paint_error(Style::Warn, "note"), text));
}

}  // namespace hambrel::cli
