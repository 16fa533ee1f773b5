#include "os/preview_child.h"

#include <fcntl.h>
#include <linux/capability.h>
#include <sched.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <climits>
#include <csignal>
#include <cstring>
#include <string_view>
#include <tuple>

#include "os/preview_filter.h"
#include "os/preview_taken.h"

namespace hambrel::os::child {

namespace {

int report_to = -1;

[[noreturn]] void fail(Step step, int problem = errno) {
  const Report report{step, problem};
  const ssize_t written = ::write(report_to, &report, sizeof report);
  ::_exit(written == sizeof report ? 125 : 124);
}

void require(bool good, Step step) {
  if (!good) fail(step);
}

bool wrote(const char* path, const char* text) {
  const int file = ::open(path, O_WRONLY | O_CLOEXEC);
  if (file < 0) return false;
  const bool whole = ::write(file, text, std::strlen(text)) == static_cast<ssize_t>(std::strlen(text));
  return ::close(file) == 0 && whole;
}

void write_file(const char* path, const char* text, Step step) { require(wrote(path, text), step); }

/// A new file system that is mounted nowhere yet.
int made(const char* type, std::initializer_list<std::pair<const char*, const char*>> options, unsigned attributes,
         Step step) {
  const int context = ::fsopen(type, FSOPEN_CLOEXEC);
  require(context >= 0, step);
  for (const auto& [key, value] : options) {
    if (value == nullptr) continue;
    const auto command = value[0] == '\0' ? FSCONFIG_SET_FLAG : FSCONFIG_SET_STRING;
    require(::fsconfig(context, command, key, value[0] == '\0' ? nullptr : value, 0) == 0, step);
  }
  require(::fsconfig(context, FSCONFIG_CMD_CREATE, nullptr, nullptr, 0) == 0, step);
  const int mount = ::fsmount(context, FSMOUNT_CLOEXEC, attributes);
  require(mount >= 0, step);
  require(::close(context) == 0, step);
  return mount;
}

constexpr unsigned kHarmless = MOUNT_ATTR_NOSUID | MOUNT_ATTR_NODEV;

void place(int mount, const char* at, Step step) {
  require(::move_mount(mount, "", AT_FDCWD, at, MOVE_MOUNT_F_EMPTY_PATH | MOVE_MOUNT_T_SYMLINKS) == 0, step);
  require(::close(mount) == 0, step);
}

/// Texts of options: "/proc/self/fd/N", one after the other.
class Names {
 public:
  /// A directory as the kernel is told of it: options of a mount are short, and ':' means something in them. It is
  /// opened here, as an overlay takes nothing from another namespace's mounts.
  void add(const char* directory) {
    const int opened = ::open(directory, O_PATH | O_DIRECTORY | O_CLOEXEC);
    require(opened >= 0, Step::Overlay);
    if (size_ > 0) text_[size_++] = ':';
    for (const char c : std::string_view("/proc/self/fd/")) text_[size_++] = c;
    std::array<char, 12> digits{};
    std::size_t count = 0;
    for (int rest = opened; rest > 0 || count == 0; rest /= 10) digits[count++] = static_cast<char>('0' + rest % 10);
    while (count > 0) text_[size_++] = digits[--count];
    text_[size_] = '\0';
  }
  const char* text() const { return size_ == 0 ? nullptr : text_.data(); }

 private:
  std::array<char, 96> text_{};
  std::size_t size_ = 0;
};

/// Directories of the work before the root is entered, below the one that all is mounted on: see enter().
constexpr const char* kEmpty = "empty";
constexpr const char* kNew = "new";
constexpr std::size_t kMostLayers = 64;

/// An overlay may not have one of its layers below another one, and what is staged lies below the root. So what it lies
/// over is another overlay, which only shows the root: that is another file system.
int layer(const Layer& one, bool own_users) {
  const char* const marks = own_users ? "" : nullptr;
  if (one.view == nullptr && one.upper == nullptr) {
    constexpr unsigned kClone = OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC;
    int tree = ::open_tree(AT_FDCWD, one.lower, kClone);
    unsigned deep = AT_EMPTY_PATH;
    if (tree < 0 && errno == EINVAL) {
      // whoever is not root may bind what has further mounts in it only together with these
      tree = ::open_tree(AT_FDCWD, one.lower, kClone | AT_RECURSIVE);
      deep |= AT_RECURSIVE;
    }
    require(tree >= 0, Step::Overlay);
    mount_attr attributes{};
    attributes.attr_set = kHarmless | (one.writable ? 0U : MOUNT_ATTR_RDONLY);
    require(::mount_setattr(tree, "", deep, &attributes, sizeof attributes) == 0, Step::Overlay);
    return tree;
  }
  Names below;
  below.add(kEmpty);
  below.add(one.lower);
  const int shown = made("overlay", {{"lowerdir", below.text()}, {"userxattr", marks}}, kHarmless, Step::Overlay);
  require(::mkdir(one.shown, 0700) == 0, Step::Overlay);
  place(shown, one.shown, Step::Overlay);
  Names lower, upper, work;
  if (one.view != nullptr) lower.add(one.view);
  lower.add(one.shown);
  if (one.view == nullptr) lower.add(kEmpty);
  if (one.upper != nullptr) {
    upper.add(one.upper);
    work.add(one.work);
  }
  return made("overlay",
              {{"lowerdir", lower.text()},
               {"upperdir", upper.text()},
               {"workdir", work.text()},
               {"userxattr", marks},
               {"redirect_dir", own_users ? nullptr : "follow"},  // see rehearsal/view.cpp
               {"index", "off"},
               {"metacopy", "off"}},
              kHarmless, Step::Overlay);
}

constexpr std::array<const char*, 5> kDevices{"/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom"};

void make_devices(const std::array<int, kDevices.size()>& devices) {
  place(made("tmpfs", {{"size", "16m"}, {"nr_inodes", "1k"}, {"mode", "0755"}}, MOUNT_ATTR_NOSUID, Step::Devices),
        "/dev", Step::Place);
  for (std::size_t i = 0; i < kDevices.size(); ++i) {
    const int file = ::open(kDevices[i], O_CREAT | O_EXCL | O_WRONLY | O_CLOEXEC, 0666);
    require(file >= 0 && ::close(file) == 0, Step::Devices);
    place(devices[i], kDevices[i], Step::Devices);
  }
  constexpr std::array<std::pair<const char*, const char*>, 4> kLinks{{{"/proc/self/fd", "/dev/fd"},
                                                                       {"/proc/self/fd/0", "/dev/stdin"},
                                                                       {"/proc/self/fd/1", "/dev/stdout"},
                                                                       {"/proc/self/fd/2", "/dev/stderr"}}};
  for (const auto& [target, link] : kLinks) require(::symlink(target, link) == 0, Step::Devices);
  require(::mkdir("/dev/shm", 01777) == 0 && ::chmod("/dev/shm", 01777) == 0, Step::Devices);
}

/// The root of this process is a directory of a mount (chroot), and only whole mounts can be made private or given up:
/// from the mounts' own root, which is where ".." leads to, all is made private, then the directory is a mount of its
/// own.
void leave_a_changed_root(const Plan& plan) {
  const int own = ::open("/", O_PATH | O_DIRECTORY | O_CLOEXEC);
  require(own >= 0 && ::chroot(plan.merged) == 0 && ::fchdir(own) == 0, Step::Private);
  for (;;) {
    struct stat here {
    }, above{};
    require(::stat(".", &here) == 0 && ::stat("..", &above) == 0, Step::Private);
    if (here.st_dev == above.st_dev && here.st_ino == above.st_ino) break;
    require(::chdir("..") == 0, Step::Private);
  }
  require(::chroot(".") == 0, Step::Private);
  require(::mount(nullptr, "/", nullptr, MS_REC | MS_PRIVATE, nullptr) == 0, Step::Private);
  require(::fchdir(own) == 0 && ::chroot(".") == 0 && ::close(own) == 0, Step::Private);
  require(::mount("/", "/", nullptr, MS_BIND | MS_REC, nullptr) == 0, Step::Private);
  // what is mounted on the root is not seen from it, but from its ".."
  require(::chdir("/..") == 0 && ::chroot(".") == 0, Step::Private);
}

/// The mounts, from the outside in: what names the host's files is opened before the way to them is cut off.
void enter(const Plan& plan) {
  if (::mount(nullptr, "/", nullptr, MS_REC | MS_PRIVATE, nullptr) != 0) {
    require(errno == EINVAL, Step::Private);
    leave_a_changed_root(plan);
  }
  std::array<int, kMostLayers> layers{};
  require(plan.layers.size() <= kMostLayers, Step::Overlay);
  place(made("tmpfs", {{"mode", "0700"}}, kHarmless, Step::Tmpfs), plan.merged, Step::Enter);
  require(::chdir(plan.merged) == 0, Step::Enter);
  require(::mkdir(kEmpty, 0755) == 0 && ::mkdir(kNew, 0755) == 0, Step::Enter);
  for (std::size_t i = 0; i < plan.layers.size(); ++i) layers[i] = layer(plan.layers[i], plan.own_users);
  std::array<int, kDevices.size()> devices{};
  for (std::size_t i = 0; i < kDevices.size(); ++i) {
    devices[i] = ::open_tree(AT_FDCWD, kDevices[i], OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);
    require(devices[i] >= 0, Step::Devices);
  }
  // whoever is not root may mount it only where another one is in sight
  const int proc = made("proc", {}, kHarmless | MOUNT_ATTR_NOEXEC | MOUNT_ATTR_RDONLY, Step::Proc);
  place(layers[0], kNew, Step::Enter);
  require(::chdir(kNew) == 0, Step::Enter);
  require(::syscall(SYS_pivot_root, ".", ".") == 0, Step::Enter);
  require(::umount2(".", MNT_DETACH) == 0 && ::chdir("/") == 0, Step::Enter);
  for (std::size_t i = 1; i < plan.layers.size(); ++i)
    if (!plan.layers[i].in_run) place(layers[i], plan.layers[i].at, Step::Place);
  place(proc, "/proc", Step::Place);
  for (const char* const at : {"/tmp", "/run", "/var/tmp"})
    place(made("tmpfs", {{"size", "256m"}, {"nr_inodes", "64k"}, {"mode", at[1] == 'r' ? "0755" : "1777"}}, kHarmless,
               Step::Tmpfs),
          at, Step::Place);
  for (std::size_t i = 1; i < plan.layers.size(); ++i) {
    if (!plan.layers[i].in_run) continue;
    require(::mkdir(plan.layers[i].at, 0755) == 0, Step::Place);
    place(layers[i], plan.layers[i].at, Step::Place);
  }
  for (const char* const at : plan.hidden)
    place(made("tmpfs", {{"mode", "0700"}}, kHarmless | MOUNT_ATTR_RDONLY, Step::Tmpfs), at, Step::Place);
  make_devices(devices);
  if (plan.script == nullptr) return;
  const int script = ::open("/run/script", O_CREAT | O_EXCL | O_WRONLY | O_CLOEXEC, plan.user == 0 ? 0500 : 0555);
  require(script >= 0, Step::Script);
  require(::write(script, plan.script, plan.script_size) == static_cast<ssize_t>(plan.script_size), Step::Script);
  require(::close(script) == 0, Step::Script);
}

constexpr int kReport = 3, kOutput = 4;  // descriptors from here on
constexpr int kBefore = 10;              // steps of priority between the process that looks after the others and these

/// What is open leads out of the preview: all but the two ends of pipes is closed, and who this process starts can't
/// look into it.
void close_the_way_back(const Plan& plan) {
  const int output = ::fcntl(plan.output, F_DUPFD_CLOEXEC, 10), report = ::fcntl(plan.report, F_DUPFD_CLOEXEC, 10);
  require(output >= 0 && report >= 0, Step::Enter);
  require(::dup3(report, kReport, O_CLOEXEC) == kReport && ::dup3(output, kOutput, O_CLOEXEC) == kOutput, Step::Enter);
  report_to = kReport;
  require(::syscall(SYS_close_range, 5U, ~0U, 0U) == 0, Step::Enter);
  const int null = ::open("/dev/null", O_RDWR | O_CLOEXEC);
  require(null >= 0, Step::Enter);
  for (const int standard : {0, 1, 2}) require(plan.on_terminal || ::dup2(null, standard) == standard, Step::Enter);
  require(::close(null) == 0, Step::Enter);
  require(::prctl(PR_SET_DUMPABLE, 0, 0, 0, 0) == 0, Step::Enter);
}

void limit(int what, std::uint64_t most) {
  const rlimit value{most, most};
  require(::setrlimit(static_cast<__rlimit_resource>(what), &value) == 0, Step::Rights);
}

/// What files need, and nothing that reaches beyond them. Not DAC_READ_SEARCH: with it a file handle opens any file of
/// a file system, seen or not.
constexpr std::uint64_t kKept = 1ULL << CAP_CHOWN | 1ULL << CAP_DAC_OVERRIDE | 1ULL << CAP_FOWNER | 1ULL << CAP_FSETID |
                                1ULL << CAP_SETGID | 1ULL << CAP_SETUID | 1ULL << CAP_SYS_CHROOT;

void give_up_rights(const Plan& plan) {
  constexpr std::uint64_t kMostFiles = 4096;
  limit(RLIMIT_CORE, 0);
  limit(RLIMIT_NOFILE, kMostFiles);
  limit(RLIMIT_AS, plan.memory);
  limit(RLIMIT_FSIZE, plan.disk);
  // counted in the user namespace, since Linux 5.14; the machine's root is exempt from it
  if (plan.own_users) limit(RLIMIT_NPROC, plan.processes);
  require(::prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) == 0, Step::Rights);
  for (int one = 0; ::prctl(PR_CAPBSET_READ, one, 0, 0, 0) >= 0; ++one)
    if ((kKept >> one & 1U) == 0) require(::prctl(PR_CAPBSET_DROP, one, 0, 0, 0) == 0, Step::Rights);
  __user_cap_header_struct head{_LINUX_CAPABILITY_VERSION_3, 0};
  std::array<__user_cap_data_struct, 2> data{};
  if (plan.user == 0) {
    data[0].effective = data[0].permitted = static_cast<std::uint32_t>(kKept);
  } else if (!plan.own_users) {  // else it is that user already
    // not by the C library: it would ask threads that this copy does not have
    require(::syscall(SYS_setgroups, 0UL, nullptr) == 0, Step::Rights);
    require(::syscall(SYS_setresgid, plan.user, plan.user, plan.user) == 0, Step::Rights);
    require(::syscall(SYS_setresuid, plan.user, plan.user, plan.user) == 0, Step::Rights);
    // which took this away, and nobody but root could look at what is left of this process
    require(::prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0) == 0, Step::Rights);
    require(::prctl(PR_SET_DUMPABLE, 0, 0, 0, 0) == 0, Step::Rights);
  }
  require(::syscall(SYS_capset, &head, data.data()) == 0, Step::Rights);
  require(install_filter(), Step::Rights);
}

[[noreturn]] void start(const Plan& plan) {
  require(plan.on_terminal || (::dup2(kOutput, 1) == 1 && ::dup2(kOutput, 2) == 2), Step::Start);
  sigset_t none;
  ::sigemptyset(&none);
  ::sigprocmask(SIG_SETMASK, &none, nullptr);
  for (int signal = 1; signal < NSIG; ++signal) ::signal(signal, SIG_DFL);
  ::umask(022);
  if (plan.directory != nullptr) require(::chdir(plan.directory) == 0, Step::Start);
  ::execve(plan.words[0], plan.words.data(), plan.environment.data());
  fail(Step::Start);
}

/// Ends as the program did. When this process ends the kernel ends all that are left in its namespace.
[[noreturn]] void wait_for(pid_t program, const Plan& plan) {
  constexpr long kLookAgain = 20'000'000;  // nanoseconds
  constexpr int kBySignal = 128;
  sigset_t ended;
  ::sigemptyset(&ended);
  ::sigaddset(&ended, SIGCHLD);
  for (;;) {
    int status = 0;
    for (pid_t one = 0; (one = ::waitpid(-1, &status, WNOHANG)) > 0;)
      if (one == program) ::_exit(WIFEXITED(status) ? WEXITSTATUS(status) : kBySignal + WTERMSIG(status));
    Taken now;
    require(taken_by_all(now), Step::Start);
    if (now.tasks > plan.processes) fail(Step::TooMany, 0);
    if (now.memory > plan.memory) fail(Step::TooLarge, 0);
    const timespec pause{0, kLookAgain};
    ::sigtimedwait(&ended, nullptr, &pause);
  }
}

}  // namespace

void run(const Plan& plan) {
  report_to = plan.report;
  ::prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0);
  require(::close(plan.starter) == 0, Step::Start);
  char go = 0;
  if (::read(plan.start, &go, 1) != 1) ::_exit(124);  // the parent ended before it could be watched
  sigset_t all;
  ::sigfillset(&all);
  ::sigprocmask(SIG_SETMASK, &all, nullptr);
  ::setsid();
  ::umask(0);
  if (plan.own_users) {
    write_file("/proc/self/setgroups", "deny", Step::Identity);
    write_file("/proc/self/uid_map", plan.uid_map, Step::Identity);
    write_file("/proc/self/gid_map", plan.gid_map, Step::Identity);
  }
  // a machine that is itself in a container may have /proc/sys read-only: then it is left to the other limits
  if (plan.own_numbers != nullptr) std::ignore = wrote("/proc/sys/kernel/pid_max", plan.own_numbers);
  // it gets its turn however many there are; whoever may not ask for that does without
  ::setpriority(PRIO_PROCESS, 0, plan.nice - kBefore);
  // where the machine has no memory left, this goes first
  std::ignore = wrote("/proc/self/oom_score_adj", "1000");
  constexpr std::string_view kName = "preview";  // a program should not remember the machine's
  require(::sethostname(kName.data(), kName.size()) == 0, Step::Private);
  enter(plan);
  close_the_way_back(plan);
  give_up_rights(plan);
  const long program = ::syscall(SYS_clone, SIGCHLD, nullptr, nullptr, nullptr, nullptr);
  require(program >= 0, Step::Start);
  if (program == 0) {
    ::setpriority(PRIO_PROCESS, 0, plan.nice);
    start(plan);
  }
  wait_for(static_cast<pid_t>(program), plan);
}

}  // namespace hambrel::os::child
