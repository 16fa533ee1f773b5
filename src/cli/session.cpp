#include "cli/session.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <map>

#include "base/text.h"
#include "cli/show/command_text.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

/// Only in builds with fault points, for tests and the demo: HAMBREL_TEST_DIE_AT=moved:3 ends the process, as a power
/// cut would, after the third such step; HAMBREL_TEST_STOP_AT presses Ctrl-C there.
std::function<void(const std::string&)> fault_point() {
#ifndef HAMBREL_FAULT_POINTS
  return [](const std::string&) {};
#else
  const char* const stop = std::getenv("HAMBREL_TEST_STOP_AT");
  const char* const given = stop != nullptr ? stop : std::getenv("HAMBREL_TEST_DIE_AT");
  if (given == nullptr) return [](const std::string&) {};
  const auto happen = stop != nullptr ? os::test_only_interrupt : os::test_only_die;
  const auto parts = split(given, ':');
  const std::string step(parts[0]);
  auto left = std::make_shared<std::uint64_t>(parts.size() > 1 ? parse_number(parts[1]).value_or(1) : 1);
  return [step, left, happen](const std::string& now) {
    if (now == step && --*left == 0) happen();
  };
#endif
}

using Clock = std::chrono::steady_clock;

/// For whoever asks with --verbose: where the time of a transaction went.
class Stopwatch {
 public:
  explicit Stopwatch(Observer& observer) : observer_(observer) {}
  void step(const std::string& name) {
    const auto now = Clock::now();
    if (name == "moved") {
      last_move_ = now;
      ++moves_;
      return;
    }
    at_[name] = now;
    if (name != "done" || !at_.contains("synced")) return;  // giving up attics has no switch
    const auto since = [](Clock::time_point from, Clock::time_point to) {
      return std::chrono::duration<double, std::milli>(to - from).count();
    };
    const bool staged = at_.contains("staged"), arrived = at_.contains("arrived");
    const auto synced = at_.at("synced"), journaled = at_.at("journaled"), switched = at_.at("switched");
    const auto last = moves_ > 0 ? last_move_ : journaled;
    observer_.note(fmt::format(
        "{}{}on the disk in {:.1f} ms, journal in {:.1f} ms, {} moves in {:.1f} ms, those on the disk in {:.1f} ms, "
        "recorded in {:.1f} ms",
        staged ? fmt::format("staged in {:.1f} ms, ", since(start_, at_.at("staged"))) : "",
        arrived ? fmt::format("the rest fetched in {:.1f} ms, ",
                              since(at_.at(staged ? "staged" : "arrived"), at_.at("arrived")))
                : "",
        since(arrived  ? at_.at("arrived")
              : staged ? at_.at("staged")
                       : start_,
              synced),
        since(synced, journaled), moves_, since(journaled, last), since(last, switched),
        since(switched, at_.at("committed"))));
  }

 private:
  Observer& observer_;
  Clock::time_point start_ = Clock::now(), last_move_;
  std::map<std::string, Clock::time_point> at_;
  std::size_t moves_ = 0;
};

/// Fault points, and where the time went for whoever asks with --verbose.
std::function<void(const std::string&)> after_step_of(bool verbose, Observer& observer) {
  if (!verbose) return fault_point();
  return [stopwatch = std::make_shared<Stopwatch>(observer), inner = fault_point()](const std::string& step) {
    stopwatch->step(step);
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
    throw Error(ErrorCode::Usage, fmt::format("--wait {}: a number of seconds was expected", printable(text)), {},
                "for example --wait 60");
  return static_cast<unsigned>(*wait);
}

}  // namespace

Session::Session(const Arguments& arguments, const std::string& command_line, Screen& screen, bool trust_compiled)
    : screen_(screen),
      json_(arguments.has("json")),
      quiet_(arguments.has("quiet")),
      progress_(screen, quiet_),
      root_(std::make_unique<operations::Root>(options_of(arguments, command_line, progress_, trust_compiled),
                                               progress_)) {
  screen.acts_on(root_path());
}

std::string Session::copyable(const std::string& command) const { return command_with_root(command, root_path()); }

operations::ChangingRoot& Session::change(const Arguments& arguments) {
  if (changing_ != nullptr) return *changing_;
  auto changing = std::make_unique<operations::ChangingRoot>(root_->options(), progress_, wait_of(arguments));
  changing_ = changing.get();
  root_ = std::move(changing);
  if (const auto& recovered = changing_->recovered())
    screen_.note(
        fmt::format("{}: transaction {} ({}) was interrupted; {} of its {} moves had been done and were taken back. "
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

std::optional<Listing> Session::listing() {
  const std::string identity = root_->identity();
  if (identity.empty()) return std::nullopt;
  const View through = root_->view();
  return Listing::open(files(), listing_key(*root_->catalog().base, identity, through), through.now);
}

void Session::remember_installed() {
  try {
    const auto seen = root_->renew_overlay();
    if (!seen) return;
    const View through = root_->view();
    const std::string key =
        listing_key(*root_->catalog().base, state::identity_of(files(), operations::kStateFile), through);
    if (!Listing::open(files(), key, through.now)) keep_listing(files(), key, *seen);
  } catch (...) {
    const Error problem = current_error();
    progress_.note(fmt::format("the list of installed packages could not be cached, so looking takes longer: {}: {}",
                               problem.where(), problem.problem()));
  }
}

void Session::tell_of_unusable_repositories() {
  for (const std::string& one : root_->unusable_repositories()) progress_.note(one);
}

}  // namespace hambrel::cli
