#include "cli/session.h"

#include <fmt/format.h>

#include <cstdlib>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/command_text.h"
#include "operations/transaction_times.h"
#include "os/host.h"
#include "os/interrupt.h"

namespace hambrel::cli {

namespace {

using AfterStep = decltype(operations::RootOptions::after_step);

/// Only in builds with fault points, for tests and the demo: HAMBREL_TEST_DIE_AT=moved:3 ends the process, as a power
/// cut would, after the third such step; HAMBREL_TEST_STOP_AT presses Ctrl-C there.
AfterStep fault_point() {
#ifndef HAMBREL_FAULT_POINTS
  return [](auto) {};
#else
  const char* const stop = std::getenv("HAMBREL_TEST_STOP_AT");
  const char* const given = stop != nullptr ? stop : std::getenv("HAMBREL_TEST_DIE_AT");
  if (given == nullptr) return [](auto) {};
  const auto happen = stop != nullptr ? os::test_only_interrupt : os::test_only_die;
  const auto parts = split(given, ':');
  const std::string step(parts[0]);
  auto left = std::make_shared<std::uint64_t>(parts.size() > 1 ? parse_number(parts[1]).value_or(1) : 1);
  return [step, left, happen](auto now) {
    if (text_of(now) == step && --*left == 0) happen();
  };
#endif
}

/// Fault points, and where the time went for whoever asks with --verbose.
AfterStep after_step_of(bool verbose, Observer& observer) {
  if (!verbose) return fault_point();
  return [times = std::make_shared<operations::TransactionTimes>(observer), inner = fault_point()](auto step) {
    times->after(step);
    inner(step);
  };
}

operations::RootOptions options_of(const Arguments& arguments, std::string command_line, Observer& observer,
                                   bool trust_compiled) {
  operations::RootOptions options;
  options.path = arguments.value("root").value_or("/");
  options.settings_file = arguments.value("config").value_or("");
  options.architecture = arguments.value("arch").value_or("");
  options.command = std::move(command_line);
  options.trust_compiled = trust_compiled;
  options.after_step = after_step_of(arguments.has("verbose"), observer);
  return options;
}

unsigned wait_of(const Arguments& arguments) {
  const std::string text = arguments.value("wait").value_or("0");
  const auto wait = parse_number(text);
  if (!wait || *wait > 86400)
    throw Error(ErrorCode::Usage, fmt::format("--wait {}: must be a number of seconds", printable(text)), {},
                "for example --wait 60");
  return static_cast<unsigned>(*wait);
}

Progress::Form progress_form(const Arguments& arguments) {
  const std::string form = arguments.value("progress").value_or("auto");
  if (form == "json") return Progress::Form::Json;
  if (form != "auto" && form != "none")
    throw Error(ErrorCode::Usage, fmt::format("--progress {}: must be auto, none or json", printable(form)), {},
                "json writes events as lines to standard error, see docs/scripts.md");
  return form == "none" || arguments.has("quiet") ? Progress::Form::None : Progress::Form::Text;
}

}  // namespace

Session::Session(const Arguments& arguments, const std::string& command_line, Screen& screen, bool trust_compiled)
    : screen_(screen),
      json_(arguments.has("json")),
      quiet_(arguments.has("quiet")),
      verbose_(arguments.has("verbose")),
      progress_(screen, progress_form(arguments), quiet_),
      root_(std::make_unique<operations::Root>(options_of(arguments, command_line, progress_, trust_compiled),
                                               progress_)) {
  screen.acts_on(root_path());
}

std::string Session::copyable(const std::string& command) const { return command_with_root(command, root_path()); }

void Session::document(const Json& document) const { screen_.line(canonical(document)); }

void Session::say(const Json& document, std::string_view sentence) const {
  if (json_) return this->document(document);
  if (!quiet_) screen_.sentence(sentence);
}

operations::ChangingRoot& Session::change(const Arguments& arguments) {
  if (changing_ != nullptr) return *changing_;
  auto changing = std::make_unique<operations::ChangingRoot>(root_->options(), progress_, wait_of(arguments));
  changing_ = changing.get();
  root_ = std::move(changing);
  if (const auto& recovered = changing_->recovered())
    screen_.note(
        fmt::format("{}: transaction {} ({}) was interrupted; {} of its {} moves had been done and were rolled back. "
                    "The system is as it was before.",
                    screen_.paint_error(Style::Warn, "recovered"), number(recovered->id), recovered->kind,
                    recovered->moves_taken_back, recovered->moves));
  return *changing_;
}

void Session::without_state(const Arguments& arguments) {
  auto changing = std::make_unique<operations::ChangingRoot>(root_->options(), progress_, wait_of(arguments),
                                                             operations::ChangingRoot::State::Lost);
  changing_ = changing.get();
  root_ = std::move(changing);
}

void Session::tell_of_unusable_repositories() {
  for (const std::string& one : root_->unusable_repositories()) progress_.note(one);
}

}  // namespace hambrel::cli
