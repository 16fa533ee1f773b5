#include "os/preview.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <sched.h>
#include <sys/resource.h>
#include <sys/statvfs.h>
#include <sys/syscall.h>
#include <sys/utsname.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>

#include "base/error.h"
#include "os/control_group.h"
#include "os/handle.h"
#include "os/host.h"
#include "os/preview_child.h"

namespace hambrel::os {

namespace {

[[noreturn]] void refuse(const std::string& what) {
  throw Error(ErrorCode::Io, fmt::format("{}: {}", what, std::strerror(errno)), {}, "run the command again");
}

struct Pipe {
  explicit Pipe(int flags = 0) {
    std::array<int, 2> ends{};
    if (::pipe2(ends.data(), O_CLOEXEC | flags) != 0) refuse("cannot make a pipe");
    read = Handle(ends[0]);
    write = Handle(ends[1]);
  }
  Handle read, write;
};

/// Since Linux 6.14. Before that the same file is a limit of the whole machine, which is not ours to set.
bool numbers_are_of_a_namespace() {
#ifdef HAMBREL_FAULT_POINTS  // for tests: as an older kernel
  if (std::getenv("HAMBREL_TEST_OLD_KERNEL") != nullptr) return false;
#endif
  utsname kernel{};
  int major = 0, minor = 0;
  if (::uname(&kernel) != 0 || std::sscanf(kernel.release, "%d.%d", &major, &minor) != 2) return false;
  constexpr std::pair kSince{6, 14};
  return std::pair(major, minor) >= kSince;
}

/// Numbers of processes below this are given once. So many may be made beyond the limit before it is seen.
constexpr unsigned kNotGivenAgain = 301;

/// All that the first process of the preview needs, made ready before it is there.
class Prepared {
 public:
  Prepared(const Preview& preview, const PreviewProgram& program, const PreviewLimits& limits) {
    for (const PreviewLayer& one : preview.layers) add(one);
    for (const std::string& one : preview.hidden) plan.hidden.push_back(keep("/" + one));
    plan.merged = keep(preview.merged);
    if (!program.script.empty()) {
      plan.script = program.script.data();
      plan.script_size = program.script.size();
    }
    for (const std::string& one : program.words) plan.words.push_back(keep(one));
    for (const std::string& one : program.environment) plan.environment.push_back(keep(one));
    plan.words.push_back(nullptr);
    plan.environment.push_back(nullptr);
    plan.processes = limits.processes;
    if (numbers_are_of_a_namespace()) plan.own_numbers = keep(fmt::format("{}", limits.processes + kNotGivenAgain));
    plan.nice = ::getpriority(PRIO_PROCESS, 0);
    plan.memory = limits.memory;
    plan.disk = limits.disk;
    plan.own_users = !is_superuser();
    plan.user = program.user;
    plan.on_terminal = program.on_terminal;
    if (!program.directory.empty()) plan.directory = keep(program.directory);
    plan.uid_map = keep(fmt::format("{} {} 1", program.user, ::geteuid()));
    plan.gid_map = keep(fmt::format("{} {} 1", program.user, ::getegid()));
  }
  child::Plan plan;

 private:
  char* keep(const std::string& text) { return texts_.emplace_back(std::make_unique<std::string>(text))->data(); }

  void add(const PreviewLayer& one) {
    const auto path = [&](const std::string& text) { return text.empty() ? nullptr : keep(text); };
    plan.layers.push_back({keep("/" + one.at), keep(fmt::format("shown{}", plan.layers.size())), path(one.lower),
                           path(one.view), path(one.upper), path(one.work), one.writable, one.at.starts_with("run/")});
  }

  std::vector<std::unique_ptr<std::string>> texts_;
};

std::string_view what_failed(child::Step step) {
  switch (step) {
    case child::Step::None: break;
    case child::Step::Identity: return "a user namespace could not be set up";
    case child::Step::Private: return "mounts could not be made private";
    case child::Step::Overlay: return "the overlay could not be mounted";
    case child::Step::Tmpfs: return "a tmpfs could not be mounted";
    case child::Step::Proc: return "/proc could not be mounted";
    case child::Step::Devices: return "the devices could not be made";
    case child::Step::Enter: return "the preview could not be entered";
    case child::Step::Place: return "a file system could not be put into its place";
    case child::Step::Script: return "the script could not be written";
    case child::Step::Rights: return "rights could not be given up";
    case child::Step::Start:
    case child::Step::TooMany:
    case child::Step::TooLarge: break;
  }
  return "";
}

struct Room {
  std::uint64_t bytes = UINT64_MAX, files = UINT64_MAX;
};

Room room_at(const std::string& path) {
  struct statvfs raw {};
  if (::statvfs(path.c_str(), &raw) != 0) return {};
  return {static_cast<std::uint64_t>(raw.f_bavail) * raw.f_frsize, raw.f_ffree};
}

/// Where what is written to it goes; empty: nothing can be.
const std::string& written_at(const PreviewLayer& layer) { return layer.writable ? layer.lower : layer.upper; }

/// Looks after the first process of a preview: takes what it prints, and ends it where it goes over a limit.
class Watch {
 public:
  Watch(pid_t process, const Preview& preview, const PreviewLimits& limits,
        const std::function<void(std::string_view)>& printed, const std::function<bool()>& stop_asked)
      : process_(process), preview_(preview), limits_(limits), printed_(printed), stop_asked_(stop_asked) {
    for (const PreviewLayer& one : preview_.layers)
      if (const std::string& written = written_at(one); !written.empty()) room_before_.push_back(room_at(written));
  }
  ~Watch() {
    if (process_ < 0) return;
    ::kill(process_, SIGKILL);
    wait();
  }
  Watch(const Watch&) = delete;
  Watch& operator=(const Watch&) = delete;

  ProgramEnd run(const Handle& output, const Handle& report) {
    bool open = true;
    while (open) {
      constexpr int kLookAgain = 50;  // milliseconds
      pollfd one{output.get(), POLLIN, 0};
      if (::poll(&one, 1, kLookAgain) < 0 && errno != EINTR) refuse("cannot wait for a program");
      if (one.revents != 0) open = take(output);
      if (over_limit()) break;
    }
    if (end_.kind != ProgramEnd::Kind::Exited) ::kill(process_, SIGKILL);
    const int status = wait();
    end_.milliseconds = monotonic_milliseconds() - begun_;
    if (end_.kind == ProgramEnd::Kind::Exited) judge(status, report);
    return std::move(end_);
  }

 private:
  /// False at the end: nobody holds its other side any more.
  bool take(const Handle& output) {
    std::array<char, 16384> buffer{};
    const ssize_t size = ::read(output.get(), buffer.data(), buffer.size());
    if (size < 0 && (errno == EINTR || errno == EAGAIN)) return true;
    if (size <= 0) return false;
    const std::string_view text(buffer.data(), static_cast<std::size_t>(size));
    printed_(text);
    end_.output += text;
    if (end_.output.size() > 2 * kKeptOutput) end_.output.erase(0, end_.output.size() - kKeptOutput);
    return true;
  }

  bool over_limit() {
    if (stop_asked_()) return stop(ProgramEnd::Kind::Stopped);
    if (monotonic_milliseconds() - begun_ > 1000LL * limits_.seconds) return stop(ProgramEnd::Kind::TooLong);
    std::size_t number = 0;
    for (const PreviewLayer& one : preview_.layers) {
      const std::string& written = written_at(one);
      if (written.empty()) continue;
      const Room before = room_before_[number++], now = room_at(written);
      const auto taken = [](std::uint64_t was, std::uint64_t is) { return was > is ? was - is : 0; };
      if (taken(before.bytes, now.bytes) > limits_.disk) return stop(ProgramEnd::Kind::TooMuch);
      if (taken(before.files, now.files) > limits_.files) return stop(ProgramEnd::Kind::TooManyFiles);
    }
    return false;
  }
  bool stop(ProgramEnd::Kind kind) {
    end_.kind = kind;
    return true;
  }

  int wait() {
    int status = 0;
    while (::waitpid(process_, &status, 0) < 0 && errno == EINTR) {
    }
    process_ = -1;
    return status;
  }

  void judge(int status, const Handle& report_from) {
    if (end_.output.size() > kKeptOutput) end_.output.erase(0, end_.output.size() - kKeptOutput);
    child::Report report;
    const bool reported = ::read(report_from.get(), &report, sizeof report) == sizeof report;
    if (reported && report.step == child::Step::TooMany) {
      end_.kind = ProgramEnd::Kind::TooMany;
    } else if (reported && report.step == child::Step::TooLarge) {
      end_.kind = ProgramEnd::Kind::TooLarge;
    } else if (reported) {
      const bool starts = report.step == child::Step::Start;
      end_.kind = starts ? ProgramEnd::Kind::NotStarted : ProgramEnd::Kind::NoPreview;
      end_.problem = starts ? std::strerror(report.problem)
                            : fmt::format("{}: {}", what_failed(report.step), std::strerror(report.problem));
    } else if (WIFSIGNALED(status)) {
      end_.kind = ProgramEnd::Kind::Killed;
      end_.code = WTERMSIG(status);
    } else {
      constexpr int kBySignal = 128;
      end_.code = WEXITSTATUS(status);
      if (end_.code <= kBySignal) return;
      end_.kind = ProgramEnd::Kind::Killed;
      end_.code -= kBySignal;
    }
  }

  pid_t process_;
  const Preview& preview_;
  const PreviewLimits& limits_;
  const std::function<void(std::string_view)>& printed_;
  const std::function<bool()>& stop_asked_;
  const std::int64_t begun_ = monotonic_milliseconds();
  std::vector<Room> room_before_;
  ProgramEnd end_;
};

}  // namespace

ProgramEnd run_on_preview(const Preview& preview, const PreviewProgram& program, const PreviewLimits& limits,
                          const std::function<void(std::string_view)>& printed,
                          const std::function<bool()>& stop_asked) {
  Prepared prepared(preview, program, limits);
  Pipe output(O_NONBLOCK), report, start;
  prepared.plan.output = output.write.get();
  prepared.plan.report = report.write.get();
  prepared.plan.start = start.read.get();
  prepared.plan.starter = start.write.get();
  // the program's end of the pipe waits when it is full, as programs expect
  if (::fcntl(output.write.get(), F_SETFL, 0) != 0) refuse("cannot set up a pipe");
  const unsigned long flags = CLONE_NEWNS | CLONE_NEWPID | CLONE_NEWNET | CLONE_NEWIPC | CLONE_NEWUTS |
                              CLONE_NEWCGROUP | (prepared.plan.own_users ? CLONE_NEWUSER : 0UL) | SIGCHLD;
  const long process = ::syscall(SYS_clone, flags, nullptr, nullptr, nullptr, nullptr);
  if (process < 0) {
    ProgramEnd end;
    end.kind = ProgramEnd::Kind::NoPreview;
    end.problem = fmt::format("namespaces could not be made: {}", std::strerror(errno));
    return end;
  }
  if (process == 0) child::run(prepared.plan);
  const ControlGroup group(limits.processes + kNotGivenAgain, limits.memory, prepared.plan.own_numbers == nullptr);
  group.take(static_cast<pid_t>(process));
  Watch watch(static_cast<pid_t>(process), preview, limits, printed, stop_asked);
  // not the end that it reads from: where it has ended already, writing to it would end this process, too
  for (Handle* const theirs : {&output.write, &report.write}) std::ignore = theirs->close();
  if (::write(start.write.get(), "g", 1) != 1) refuse("cannot start a program");
  ProgramEnd end = watch.run(output.read, report.read);
  if (!end.succeeded() && group.ran_out_of_memory()) end.kind = ProgramEnd::Kind::TooLarge;
  return end;
}

}  // namespace hambrel::os
