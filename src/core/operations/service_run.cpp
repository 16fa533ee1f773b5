#include "operations/service_run.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"
#include "base/json.h"
#include "base/text.h"
#include "os/command.h"
#include "os/host.h"
#include "os/processes.h"

namespace hambrel::operations {

using plan::ServiceStep;
using StepKind = ServiceStep::Kind;

namespace {

constexpr const char* kUnfinished = "var/lib/hambrel/private/services.json";

bool is_stopped_before(const ServiceStep& step) { return step.kind == StepKind::Stop || step.stopped_before; }

std::string last_line(const std::string& output) {
  std::string last;
  for (const std::string_view line : split(output, '\n'))
    if (!line.empty()) last = printable(line);
  return last;
}

/// By "start", "reload" or "restart".
services::Done brought_up(services::Manager& manager, const std::string& name, std::string_view action) {
  if (action == "start") return manager.start(name);
  return action == "reload" ? manager.reload(name) : manager.restart(name);
}

}  // namespace

ServiceRun::ServiceRun(ChangingRoot& root, std::vector<ServiceStep> steps) : root_(root), steps_(std::move(steps)) {
  std::erase_if(steps_,
                [](const ServiceStep& one) { return one.kind == StepKind::Enable || one.kind == StepKind::Disable; });
  if (steps_.empty()) return;
  manager_ = service_manager(root_);
  if (manager_ != nullptr && !manager_->is_live()) manager_.reset();
  if (manager_ == nullptr) steps_.clear();
  for (const ServiceStep& one : steps_)
    if (ran_before(one)) ran_.insert(one.name);
}

/// It may have been started or stopped since it was planned.
bool ServiceRun::ran_before(const ServiceStep& step) {
  return step.kind != StepKind::Start && (step.must_run || manager_->state_of(step.name) != ServiceState::Stopped);
}

void ServiceRun::before_rehearsal() {
  for (const ServiceStep& one : steps_)
    if (one.rehearsal > 0) stop(one);
}

void ServiceRun::before_switch() {
  // what depends on others stops first
  for (auto one = steps_.rbegin(); one != steps_.rend(); ++one)
    if (is_stopped_before(*one)) stop(*one);
}

void ServiceRun::stop(const ServiceStep& step) {
  if (!ran_.contains(step.name) || stopped_.contains(step.name)) return;
  HAMBREL_ASSERT(manager_ != nullptr, "somebody stops it");
  stopped_.insert(step.name);
  write_down();
  root_.observer().begin(fmt::format("stopping {}", step.name), 0, Observer::Unit::Items);
  const EndOfProgress end(root_.observer());
  const std::int64_t begun = os::monotonic_milliseconds();
  const services::Done done = manager_->stop(step.name);
  records_.push_back(
      {step.package, kServiceProgram + step.name, "stop", os::monotonic_milliseconds() - begun, done.said, {}});
  if (done.good) return;
  start_again();
  throw Error(ErrorCode::Refused, fmt::format("the service {} does not stop: {}", step.name, done.said), {},
              "nothing was changed; stop it, then run the command again");
}

/// Before the first is stopped: who changes this root next reads it, should this process end.
void ServiceRun::write_down() {
  Json list = Json::array();
  for (const ServiceStep& one : steps_)
    list.push_back({{"name", one.name},
                    {"action", plan::text_of(one.kind)},
                    {"package", one.package},
                    {"stopped", stopped_.contains(one.name)},
                    {"ran", ran_.contains(one.name)}});
  const Json whole = {{"transaction", number(root_.state_to_change().next_id())}, {"services", list}};
  root_.files().replace_file(kUnfinished, canonical(whole), 0600);
}

void ServiceRun::start_again() {
  for (const ServiceStep& one : steps_) {
    if (!stopped_.contains(one.name)) continue;
    if (const services::Done done = manager_->start(one.name); !done.good)
      root_.observer().note(fmt::format("the service {} could not be started again: {}", one.name, done.said));
  }
  stopped_.clear();
  if (root_.files().stat(kUnfinished)) root_.files().remove_file(kUnfinished);
}

std::vector<ServiceDone> ServiceRun::carry_on(state::TxnId id) {
  std::vector<ServiceDone> all;
  if (steps_.empty()) return all;
  HAMBREL_ASSERT(manager_ != nullptr && number(id) > 0, "they are carried on with after a transaction");
  // the transaction is done, whatever can't be written from here on
  const auto attempt = [&](const std::function<void()>& work) {
    try {
      work();
    } catch (const Error& problem) {
      root_.observer().note(fmt::format("what is done with services could not be recorded: {}", problem.what()));
    }
  };
  attempt([&] { write_down(); });
  attempt([&] { manager_->read_again(); });
  for (const ServiceStep& one : steps_) {
    if (one.kind != StepKind::Start && !ran_.contains(one.name)) continue;
    if (one.kind == StepKind::Stop) {
      all.push_back({one.name, "stop", true, {}});
      continue;
    }
    try {
      all.push_back(finish(one));
      if (!all.back().good) continue;
      if (ServiceDone checked = check(one); !checked.good) all.back() = std::move(checked);
    } catch (const Error& problem) {  // no process could be made, say
      all.push_back({one.name, std::string(plan::text_of(one.kind)), false, problem.what()});
    }
  }
  attempt([&] { root_.state_to_change().add_runs(id, records_); });
  attempt([&] {
    if (root_.files().stat(kUnfinished)) root_.files().remove_file(kUnfinished);
  });
  return all;
}

ServiceDone ServiceRun::finish(const ServiceStep& step) {
  const std::string action(plan::text_of(step.kind));
  root_.observer().begin(fmt::format("{}ing {}", action, step.name), 0, Observer::Unit::Items);
  const EndOfProgress end(root_.observer());
  const std::int64_t begun = os::monotonic_milliseconds();
  const bool starts = step.kind == StepKind::Start || stopped_.contains(step.name);
  const services::Done done = brought_up(*manager_, step.name, starts ? "start" : action);
  records_.push_back(
      {step.package, kServiceProgram + step.name, action, os::monotonic_milliseconds() - begun, done.said, {}});
  return {step.name, action, done.good, done.said};
}

/// By its own program, or by what the manager says of it.
ServiceDone ServiceRun::check(const ServiceStep& step) {
  constexpr int kPause = 250;  // milliseconds
  const std::string action(plan::text_of(step.kind));
  if (step.check.empty()) {
    const services::Done done = settled(*manager_, step.name);
    if (!done.good) records_.push_back({step.package, kServiceProgram + step.name, "check", 1000, done.said, {}});
    return {step.name, action, done.good, done.said};
  }
  root_.observer().begin(fmt::format("checking {}", step.name), 0, Observer::Unit::Items);
  const EndOfProgress end(root_.observer());
  const std::int64_t begun = os::monotonic_milliseconds(), until = begun + 1000LL * step.check_seconds;
  std::string said, output;
  for (;;) {
    const auto left = std::max<std::int64_t>(1, (until - os::monotonic_milliseconds() + 999) / 1000);
    const os::CommandEnd one =
        os::run_command(step.check, static_cast<unsigned>(left), {"HAMBREL_SERVICE=" + step.name});
    output = one.output;
    said.clear();
    if (one.succeeded()) break;
    const std::string words = join(step.check, " "), last = last_line(one.output);
    said = fmt::format("{} returned {} for {} s", words, one.code, step.check_seconds);
    if (one.timed_out) said = fmt::format("{} did not end within {} s", words, step.check_seconds);
    if (!one.started) said = one.problem;
    if (!last.empty()) said += ": " + last;
    if (!one.started || os::monotonic_milliseconds() + kPause >= until) break;
    os::sleep_milliseconds(kPause);
  }
  records_.push_back(
      {step.package, join(step.check, " "), "check", os::monotonic_milliseconds() - begun, said, output});
  return {step.name, action, said.empty(), said};
}

namespace {

/// Where that could not even be done, or nobody knows, what is stopped waits for the recovery.
bool was_taken_back(ChangingRoot& root) {
  try {
    return !root.state()->journal();
  } catch (const Error& problem) {
    root.observer().note(fmt::format("services stay stopped until `hambrel recover` was run: {}", problem.what()));
    return false;
  }
}

/// What runs, and was there before: only a restart brings it to the new files.
void tell_what_is_left(ChangingRoot& root, Outcome& outcome) {
  for (const state::PackageChange& change : root.state()->changes_of(*outcome.transaction)) {
    if (!change.before || !change.after || change.before_row == change.after_row) continue;
    const std::string& asks = change.after->package.restart;
    if (asks == "system") outcome.restart_system.push_back(change.name);
    if (asks == "session") outcome.restart_session.push_back(change.name);
  }
  if (root.state()->moves_of(*outcome.transaction).empty()) return;
  for (const ServiceLine& one : service_list(root, true).lines)
    if (!one.replaced.empty()) outcome.due.push_back(one.name);
}

}  // namespace

void with_services(ChangingRoot& root, const std::vector<ServiceStep>& steps, const std::function<bool()>& stop_asked,
                   Outcome& outcome, const std::function<state::TxnId(txn::Engine&)>& work) {
  ServiceRun services(root, steps);
  txn::Environment environment = root.environment(stop_asked);
  environment.before_rehearsal = [&] { services.before_rehearsal(); };
  environment.before_switch = [&] { services.before_switch(); };
  txn::Engine engine(std::move(environment));
  try {
    outcome.transaction = work(engine);
  } catch (...) {
    if (services.has_stopped_some() && was_taken_back(root)) services.start_again();
    throw;
  }
  outcome.services = services.carry_on(*outcome.transaction);
  outcome.ran = services.ran();
  if (!os::is_own_root(root.options().path)) return;
  try {
    tell_what_is_left(root, outcome);
  } catch (const Error& problem) {  // the transaction is done, and stays so
    root.observer().note(fmt::format("what runs on replaced files could not be looked for: {}", problem.what()));
  }
}

namespace {

/// What was left to be done with one service; nothing where nothing is.
std::optional<state::RunRecord> made_up_for(services::Manager& manager, const Json& one, bool switched) {
  const auto action = one.at("action").get<std::string>(), name = one.at("name").get<std::string>();
  const bool stopped = one.at("stopped").get<bool>(), ran = one.at("ran").get<bool>();
  state::RunRecord record{one.at("package").get<std::string>(), kServiceProgram + name, action, 0, {}, {}};
  if (switched && action == "stop") return stopped ? std::optional(record) : std::nullopt;
  const bool due = switched && (action == "start" || ran);
  if (!stopped && !due) return std::nullopt;
  const services::Done done = brought_up(manager, name, stopped ? "start" : action);
  record.ended = done.said;
  return record;
}

}  // namespace

void finish_services(ChangingRoot& root) {
  if (!root.files().stat(kUnfinished)) return;
  constexpr std::uint64_t kMost = 1 << 20;
  try {
    const Json whole = parse_json(root.files().read_itself(kUnfinished, kMost), root.files().shown(kUnfinished));
    const state::TxnId id{whole.at("transaction").get<std::int64_t>()};
    const auto entry = root.state()->ledger_entry(id);
    const bool switched = entry && entry->result == "done";
    const auto manager = service_manager(root);
    std::vector<state::RunRecord> records;
    if (manager != nullptr && manager->is_live()) {
      manager->read_again();
      for (const Json& one : whole.at("services"))
        if (auto record = made_up_for(*manager, one, switched)) records.push_back(std::move(*record));
    }
    for (const state::RunRecord& one : records)
      root.observer().note(fmt::format("left to be done by an interrupted change: {} {}{}", one.occasion, one.program,
                                       one.ended.empty() ? "; done" : "; failed: " + one.ended));
    if (switched) root.state_to_change().add_runs(id, records);
  } catch (const std::exception& problem) {
    root.observer().note(
        fmt::format("what an interrupted change left to be done with services can't be read: {}", problem.what()));
  }
  root.files().remove_file(kUnfinished);
}

}  // namespace hambrel::operations
