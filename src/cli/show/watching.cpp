#include "cli/show/watching.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace hambrel::cli {

namespace {

/// What a line has for a command.
std::size_t room() {
  constexpr std::size_t kBefore = 14, kLeast = 40;
  return std::max(kLeast, output_is_terminal() ? terminal_width() - kBefore : 107);
}

std::string trimmed(std::string_view text) {
  while (text.ends_with("\n")) text.remove_suffix(1);
  std::string result;
  for (const std::string_view line : split(text, '\n')) result += (result.empty() ? "" : "\n") + printable_line(line);
  return result;
}

}  // namespace

void Watching::begin(build::StepKind kind, const std::string& command) {
  end();
  const std::string step(text_of(kind));
  if (!session_.json() && !session_.quiet())
    session_.screen().line(fmt::format("  {:<10}  {}", step, printable(build::shortened(command, room()))));
  session_.progress().begin(step, 0, Observer::Unit::Items);
  running_ = true;
}

void Watching::printed(std::string_view text) {
  if (session_.verbose() && !session_.json()) session_.screen().note(trimmed(text));
  const auto lines = split(text, '\n');
  for (auto one = lines.rbegin(); one != lines.rend(); ++one) {
    if (trim(*one).empty()) continue;
    session_.progress().at(printable_line(trim(*one)));
    break;
  }
  session_.progress().progress(++seen_);
}

void Watching::end() {
  if (running_) session_.progress().end();
  running_ = false;
}

}  // namespace hambrel::cli
