#include "services/manager.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/text.h"
#include "os/host.h"
#include "os/processes.h"

namespace hambrel::services {

namespace {

using settings::ServiceRules;

constexpr unsigned kPatience = 100;  // seconds: a little more than managers give a service to stop

Done outcome(const os::CommandEnd& end) {
  if (end.succeeded()) return {};
  if (!end.started) return {false, end.problem};
  std::vector<std::string> lines;
  for (const std::string_view line : split(end.output, '\n'))
    if (!line.empty()) lines.emplace_back(printable(line));
  constexpr std::size_t kMost = 3;
  if (lines.size() > kMost) lines.erase(lines.begin(), lines.end() - kMost);
  const std::string how =
      end.timed_out ? fmt::format("took more than {} s", kPatience) : fmt::format("returned {}", end.code);
  return {false, how + (lines.empty() ? "" : ": " + join(lines, "; "))};
}

Done run(const std::vector<std::string>& words) { return outcome(os::run_command(words, kPatience)); }

/// https://www.freedesktop.org/software/systemd/man/latest/systemctl.html and systemd.unit.html
class Systemd final : public Manager {
 public:
  explicit Systemd(bool live) : live_(live) {}
  std::string_view name() const override { return "systemd"; }
  bool is_live() const override { return live_; }
  std::vector<Link> links_of(const Service& service) const override {
    std::vector<std::string> targets = service.targets;
    if (targets.empty()) targets.emplace_back("multi-user.target");
    std::vector<Link> links;
    const std::string unit = unit_of(service.name);
    for (const std::string& target : targets)
      links.push_back({fmt::format("etc/systemd/system/{}.wants/{}", target, unit), "/usr/lib/systemd/system/" + unit});
    return links;
  }
  State state_of(const std::string& service) const override {
    const std::string state = property(service, "ActiveState");
    if (state == "active" || state == "reloading" || state == "activating") return State::Running;
    if (state == "failed") return State::Failed;
    return state == "inactive" || state == "deactivating" ? State::Stopped : State::Unknown;
  }
  Done start(const std::string& service) override { return run({"systemctl", "start", unit_of(service)}); }
  Done stop(const std::string& service) override { return run({"systemctl", "stop", unit_of(service)}); }
  Done restart(const std::string& service) override { return run({"systemctl", "restart", unit_of(service)}); }
  Done reload(const std::string& service) override { return run({"systemctl", "reload-or-restart", unit_of(service)}); }
  std::vector<int> processes_of(const std::string& service) const override {
    return os::processes_of_group(property(service, "ControlGroup"));
  }
  void read_again() override { std::ignore = run({"systemctl", "daemon-reload"}); }

 private:
  static std::string unit_of(const std::string& service) {
    constexpr std::array<std::string_view, 5> kKinds{".service", ".socket", ".timer", ".path", ".target"};
    const bool whole = std::any_of(kKinds.begin(), kKinds.end(), [&](auto kind) { return service.ends_with(kind); });
    return whole ? service : service + ".service";
  }
  static std::string property(const std::string& service, const std::string& which) {
    const auto end =
        os::run_command({"systemctl", "show", "--property", which, "--value", unit_of(service)}, kPatience);
    return std::string(trim(end.output));
  }
  bool live_;
};

/// https://smarden.org/runit/sv.8 and runsvdir.8: whatever has a link in one directory is kept running.
class Runit final : public Manager {
 public:
  Runit(std::string watched, bool live) : watched_(std::move(watched)), live_(live) {}
  std::string_view name() const override { return "runit"; }
  bool is_live() const override { return live_; }
  bool needs_link() const override { return true; }
  std::vector<Link> links_of(const Service& service) const override {
    return {{fmt::format("{}/{}", watched_, service.name), "/etc/sv/" + service.name}};
  }
  State state_of(const std::string& service) const override {
    const std::string state(trim(os::system_text(fmt::format("{}/supervise/stat", place_of(service)))));
    if (state.starts_with("run")) return State::Running;
    return state.starts_with("down") || state.empty() ? State::Stopped : State::Failed;
  }
  /// Whether it stays up is not waited for here: who restarts what ends by itself always says that it is.
  Done start(const std::string& service) override {
    constexpr int kTries = 80, kPause = 100;  // runsvdir looks every five seconds
    for (int i = 0; i < kTries && os::system_text(place_of(service) + "/supervise/stat").empty(); ++i)
      os::sleep_milliseconds(kPause);
    return run({"sv", "up", place_of(service)});
  }
  Done stop(const std::string& service) override {
    Done stopped = run({"sv", "-w", "30", "force-stop", place_of(service)});
    // one that ends at once is down before runsv, which sleeps between two tries, has read that it is to stay so; and
    // an "up" before that would not be sent, as up is what is wanted still
    constexpr int kTries = 50, kPause = 100;
    for (int i = 0; stopped.good && i < kTries && wanted(service) == 'u'; ++i) os::sleep_milliseconds(kPause);
    return stopped;
  }
  Done restart(const std::string& service) override {
    if (Done stopped = stop(service); !stopped.good) return stopped;
    return start(service);
  }
  Done reload(const std::string& service) override { return run({"sv", "hup", place_of(service)}); }
  std::vector<int> processes_of(const std::string& service) const override {
    const auto number = parse_number(trim(os::system_text(place_of(service) + "/supervise/pid")));
    if (!number) return {};
    return {static_cast<int>(*number)};
  }

 private:
  /// 'u' or 'd': a byte of the status that runsv writes.
  char wanted(const std::string& service) const {
    constexpr std::size_t kWanted = 17;
    const std::string status = os::system_text(place_of(service) + "/supervise/status");
    return status.size() > kWanted ? status[kWanted] : '\0';
  }
  std::string place_of(const std::string& service) const { return fmt::format("/{}/{}", watched_, service); }
  std::string watched_;
  bool live_;
};

/// Init scripts with the actions that the Linux Standard Base names (LSB 5.0, 22.2), started by number.
class InitScripts final : public Manager {
 public:
  explicit InitScripts(bool live) : live_(live) {}
  std::string_view name() const override { return "sysv"; }
  bool is_live() const override { return live_; }
  std::vector<Link> links_of(const Service& service) const override {
    std::vector<Link> links;
    for (const char level : {'2', '3', '4', '5'})
      links.push_back({fmt::format("etc/rc{}.d/S50{}", level, service.name), "../init.d/" + service.name});
    for (const char level : {'0', '1', '6'})
      links.push_back({fmt::format("etc/rc{}.d/K50{}", level, service.name), "../init.d/" + service.name});
    return links;
  }
  State state_of(const std::string& service) const override {
    const auto end = os::run_command({"/etc/init.d/" + service, "status"}, kPatience);
    constexpr int kDeadWithFile = 1, kDeadWithLock = 2, kStopped = 3;
    if (!end.started || end.timed_out) return State::Unknown;
    if (end.code == kDeadWithFile || end.code == kDeadWithLock) return State::Failed;
    if (end.code == 0) return State::Running;
    return end.code == kStopped ? State::Stopped : State::Unknown;
  }
  Done start(const std::string& service) override { return run({"/etc/init.d/" + service, "start"}); }
  Done stop(const std::string& service) override { return run({"/etc/init.d/" + service, "stop"}); }
  Done restart(const std::string& service) override { return run({"/etc/init.d/" + service, "restart"}); }
  Done reload(const std::string& service) override { return run({"/etc/init.d/" + service, "force-reload"}); }
  std::vector<int> processes_of(const std::string&) const override { return {}; }

 private:
  bool live_;
};

/// Whatever the administrator has: a command for each action.
class Commands final : public Manager {
 public:
  Commands(ServiceRules rules, bool live) : rules_(std::move(rules)), live_(live) {}
  std::string_view name() const override { return "commands"; }
  bool is_live() const override { return live_; }
  std::vector<Link> links_of(const Service&) const override { return {}; }
  State state_of(const std::string& service) const override {
    if (rules_.status.empty()) return State::Unknown;
    const auto end = os::run_command(filled(rules_.status, service), kPatience);
    if (!end.started || end.timed_out) return State::Unknown;
    return end.code == 0 ? State::Running : State::Stopped;
  }
  Done start(const std::string& service) override { return act("start", rules_.start, service); }
  Done stop(const std::string& service) override { return act("stop", rules_.stop, service); }
  Done restart(const std::string& service) override {
    if (!rules_.restart.empty()) return act("restart", rules_.restart, service);
    if (Done stopped = stop(service); !stopped.good) return stopped;
    return start(service);
  }
  Done reload(const std::string& service) override {
    return rules_.reload.empty() ? restart(service) : act("reload", rules_.reload, service);
  }
  std::vector<int> processes_of(const std::string&) const override { return {}; }

 private:
  static std::vector<std::string> filled(std::vector<std::string> words, const std::string& service) {
    for (std::string& word : words)
      for (std::size_t at = 0; (at = word.find("{service}", at)) != std::string::npos; at += service.size())
        word.replace(at, std::string_view("{service}").size(), service);
    return words;
  }
  static Done act(const std::string& action, const std::vector<std::string>& words, const std::string& service) {
    if (words.empty())
      return {false, fmt::format("hambrel.toml has no command for {} ([services] {})", action, action)};
    return run(filled(words, service));
  }
  ServiceRules rules_;
  bool live_;
};

bool runs_a(const std::string& program) {
  const auto all = os::processes(false, "");
  return std::any_of(all.begin(), all.end(), [&](const os::Process& one) { return one.name == program; });
}

/// The directory of runit that is watched, as the root has it.
std::string watched_directory(const ServiceRules& rules, const std::function<bool(const std::string&)>& exists) {
  if (!rules.directory.empty()) return rules.directory;
  for (const char* const usual : {"etc/service", "var/service", "service"})
    if (exists(usual)) return usual;
  return {};
}

}  // namespace

std::string_view text_of(State state) {
  switch (state) {
    case State::Running: return "running";
    case State::Stopped: return "stopped";
    case State::Failed: return "failed";
    case State::Unknown: return "not known";
  }
  return "";
}

std::unique_ptr<Manager> manager_of(const ServiceRules& rules, const std::function<bool(const std::string&)>& exists,
                                    bool here) {
  const bool any = rules.manager == "auto";
  if (rules.manager == "none") return nullptr;
  if (rules.manager == "commands") return std::make_unique<Commands>(rules, here);
  const bool runs_systemd = here && os::is_system_directory("/run/systemd/system");
  if (rules.manager == "systemd" || (any && (runs_systemd || exists("usr/lib/systemd/systemd"))))
    return std::make_unique<Systemd>(runs_systemd);
  const std::string watched = watched_directory(rules, exists);
  const bool has_runit = exists("usr/bin/runsvdir") || exists("sbin/runsvdir") || exists("usr/sbin/runsvdir");
  if (rules.manager == "runit" || (any && !watched.empty() && has_runit))
    return std::make_unique<Runit>(watched.empty() ? "etc/service" : watched, here && runs_a("runsvdir"));
  if (rules.manager == "sysv" || (any && exists("etc/inittab") && exists("etc/init.d")))
    return std::make_unique<InitScripts>(here && runs_a("init"));
  return nullptr;
}

}  // namespace hambrel::services
