#include "cli/terminal/progress.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <system_error>

#include "base/amounts.h"
#include "base/json.h"
#include "base/text.h"
#include "cli/terminal/table.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

constexpr std::int64_t kPatience = 200, kRedraw = 100, kBeat = 400, kLong = 3000;  // milliseconds
constexpr std::size_t kBar = 24;

std::string amount_text(std::uint64_t value, Observer::Unit unit) {
  return unit == Observer::Unit::Bytes ? size_text(value) : fmt::format("{}", value);
}

std::string duration_text(double seconds) {
  const auto whole = static_cast<std::uint64_t>(seconds + 0.5);
  return whole < 60 ? fmt::format("{} s", whole) : fmt::format("{}:{:02} min", whole / 60, whole % 60);
}

}  // namespace

std::string Progress::text_of(const State& state, std::size_t columns) {
  const double part =
      state.total == 0 ? 0 : std::min(1.0, static_cast<double>(state.done) / static_cast<double>(state.total));
  std::vector<std::string> pieces;  // the more important ones first
  if (state.total > 0)
    pieces.push_back(fmt::format("{} of {}", amount_text(std::min(state.done, state.total), state.unit),
                                 amount_text(state.total, state.unit)));
  else if (state.done > 0)
    pieces.push_back(amount_text(state.done, state.unit));
  constexpr double kReckoned = 1.0;  // seconds, before which a rate says nothing
  if (state.seconds >= kReckoned && state.total > 0 && part > 0.01)
    pieces.push_back(duration_text(state.seconds * (1 - part) / part) + " left");
  else if (state.total == 0)
    pieces.push_back(duration_text(state.seconds));
  if (state.seconds >= kReckoned && state.unit == Unit::Bytes && state.done > 0)
    pieces.push_back(size_text(static_cast<std::uint64_t>(static_cast<double>(state.done) / state.seconds)) + "/s");
  std::string text = state.activity;
  const std::size_t room = columns > 1 ? columns - 1 : 1;  // the last column would break the line
  for (const std::string& piece : pieces)
    if (display_width(text) + 2 + display_width(piece) <= room) text += "  " + piece;
  if (state.total > 0 && display_width(text) + kBar + 2 <= room) {
    const auto full = static_cast<std::size_t>(part * kBar);
    const std::string bar = std::string(full, '=') + std::string(kBar - full, '.');
    text = fmt::format("{}  {}{}", state.activity, bar, text.substr(state.activity.size()));
  }
  constexpr std::size_t kLeastName = 12;
  if (!state.name.empty() && display_width(text) + 2 + kLeastName <= room)
    text += "  " + cut_to(state.name, room - display_width(text) - 2);
  return cut_to(text, room);
}

Progress::~Progress() {
  heart_.request_stop();
  woken_.notify_all();
}

void Progress::begin(std::string_view activity, std::uint64_t total, Unit unit) {
  const std::lock_guard guard(lock_);
  state_ = {std::string(activity), "", 0, total, unit, 0};
  started_ = told_ = os::monotonic_milliseconds();
  drawn_ = 0;
  running_ = true;
  if (form_ == Form::Json)
    event(canonical({{"event", "begin"},
                     {"activity", activity},
                     {"total", total},
                     {"unit", unit == Unit::Bytes ? "bytes" : "items"}}));
  if (form_ != Form::Text || !terminal_) return;
  try {
    if (!heart_.joinable()) heart_ = std::jthread([this](const std::stop_token& stop) { beat(stop); });
  } catch (const std::system_error&) {  // then it is drawn only when there is news
  }
}

void Progress::at(std::string_view name) {
  const std::lock_guard guard(lock_);
  if (form_ != Form::None) state_.name = name;
}

void Progress::progress(std::uint64_t done) {
  const std::lock_guard guard(lock_);
  if (!running_ || form_ == Form::None) return;
  state_.done = done;
  const std::int64_t now = os::monotonic_milliseconds();
  if (form_ == Form::Text) return draw(now);
  if (now - told_ < kRedraw) return;
  told_ = now;
  event(canonical({{"event", "progress"}, {"done", done}, {"at", printable(state_.name)}}));
}

void Progress::draw(std::int64_t now) {
  if (!terminal_ || now - started_ < kPatience || now - drawn_ < kRedraw) return;
  drawn_ = now;
  state_.seconds = static_cast<double>(now - started_) / 1000;
  const std::string text = terminal_text(text_of(state_, terminal_width()), false, false);
  std::fputs(fmt::format("\r\033[K{}", text).c_str(), stderr);
  std::fflush(stderr);
  shown_ = true;
}

void Progress::beat(const std::stop_token& stop) {
  std::unique_lock guard(lock_);
  while (!stop.stop_requested()) {
    woken_.wait_for(guard, stop, std::chrono::milliseconds(kBeat), [] { return false; });
    const std::int64_t now = os::monotonic_milliseconds();
    if (running_ && now - drawn_ >= kBeat) draw(now);
  }
}

void Progress::wipe() {
  if (shown_) std::fputs("\r\033[K", stderr);
  shown_ = false;
}

void Progress::end() {
  const std::lock_guard guard(lock_);
  wipe();
  const std::int64_t took = os::monotonic_milliseconds() - started_;
  if (form_ == Form::Json && running_) event(canonical({{"event", "end"}, {"activity", state_.activity}}));
  if (form_ == Form::Text && !terminal_ && running_ && took >= kLong)
    event(fmt::format("{}{}: {}", state_.activity,
                      state_.total > 0 ? fmt::format(" {}", amount_text(state_.total, state_.unit)) : "",
                      duration_text(static_cast<double>(took) / 1000)));
  running_ = false;
}

void Progress::note(std::string_view text) {
  const std::lock_guard guard(lock_);
  wipe();
  if (form_ == Form::Json) return event(canonical({{"event", "note"}, {"text", printable(text)}}));
  if (!quiet_) screen_.note(fmt::format("{}: {}", screen_.paint_error(Style::Warn, "note"), text));
}

void Progress::event(std::string_view line) const { screen_.event(fmt::format("{}\n", line)); }

}  // namespace hambrel::cli
