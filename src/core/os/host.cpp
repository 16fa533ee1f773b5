#include "os/host.h"

#include <fcntl.h>
#include <malloc.h>
#include <pwd.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/utsname.h>
#include <unistd.h>

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <ctime>
#include <fstream>
#include <optional>
#include <thread>

#include "base/error.h"
#include "base/text.h"
#include "os/file_system.h"

namespace hambrel::os {

std::string machine_architecture() {
  utsname names{};
  return uname(&names) == 0 ? names.machine : "unknown";
}

std::string host_name() {
  utsname names{};
  return ::uname(&names) == 0 ? names.nodename : "";
}

unsigned user_id() { return ::geteuid(); }

bool is_superuser() { return geteuid() == 0; }

namespace {

/// Who logged in, as the kernel keeps it through every change of rights (audit); nothing where it does not know.
std::optional<std::uint64_t> login_uid() {
  constexpr std::uint64_t kUnset = UINT32_MAX;
  std::ifstream file("/proc/self/loginuid");
  std::string text;
  if (!(file >> text)) return std::nullopt;
  const auto uid = parse_number(text);
  return uid && *uid != kUnset ? uid : std::nullopt;
}

}  // namespace

std::string user_name() {
  const passwd* const entry = getpwuid(geteuid());
  const std::string effective = entry != nullptr ? printable(entry->pw_name) : std::to_string(geteuid());
  const char* const before = std::getenv("SUDO_USER");
  if (!is_superuser() || before == nullptr || *before == '\0' || effective == before) return effective;
  // A name in the environment is only what somebody says: the number beside it is the kernel's.
  const std::uint64_t real = login_uid().value_or(getuid());
  return fmt::format("{} (as {}, real user id {})", printable(before), effective, real);
}

int process_id() { return getpid(); }

void set_up_process() {
  ::umask(022);
  for (int descriptor = 0; descriptor <= 2; ++descriptor)
    if (::fcntl(descriptor, F_GETFD) < 0 && ::open("/dev/null", O_RDONLY) != descriptor) ::_exit(1);
  ::mallopt(M_TRIM_THRESHOLD, 256 << 20);
  ::mallopt(M_MMAP_THRESHOLD, 32 << 20);
}

void expect_memory(std::size_t bytes) {
  constexpr std::size_t kLargePage = 2U << 20U, kMost = 30U << 20U;  // bytes: all of it comes from the heap
  const std::size_t size = std::min(bytes, kMost);
  // taken and given back untouched, it is what the next allocations get
  void* const room = std::malloc(size);
  if (room == nullptr) return;
  const auto start = reinterpret_cast<std::uintptr_t>(room);
  const std::uintptr_t first = (start + kLargePage - 1) / kLargePage * kLargePage;
  const std::uintptr_t end = (start + size) / kLargePage * kLargePage;
  if (first < end) ::madvise(reinterpret_cast<void*>(first), end - first, MADV_HUGEPAGE);
  std::free(room);
}

void give_memory_back() { ::malloc_trim(0); }

unsigned most_open_files() {
  constexpr rlim_t kUsual = 1024;
  rlimit limit{kUsual, kUsual};
  if (::getrlimit(RLIMIT_NOFILE, &limit) != 0) return kUsual;
  return static_cast<unsigned>(std::min<rlim_t>(limit.rlim_cur, 1U << 20U));
}

unsigned processors() { return std::max(1U, std::thread::hardware_concurrency()); }

std::int64_t now() {
#ifdef HAMBREL_FAULT_POINTS  // for tests and the demo: the time in seconds stands in a file
  if (const char* const file = std::getenv("HAMBREL_TEST_CLOCK"); file != nullptr) {
    std::int64_t seconds = 0;
    if (std::ifstream(file) >> seconds) return seconds;
  }
#endif
  return std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now().time_since_epoch()).count();
}

void use_utc() {
  ::setenv("TZ", "UTC0", 1);
  ::tzset();
}

std::pair<std::int64_t, std::int64_t> file_time() {
  timespec time{};
  ::clock_gettime(CLOCK_REALTIME_COARSE, &time);
  return {time.tv_sec, time.tv_nsec};
}

std::int64_t monotonic_milliseconds() {
  return std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now().time_since_epoch())
      .count();
}

std::string own_cache_directory() {
  const auto absolute = [](const char* name) -> std::string {
    const char* const value = std::getenv(name);
    return value != nullptr && *value == '/' ? value : "";
  };
  if (const std::string given = absolute("XDG_CACHE_HOME"); !given.empty()) return given;
  const std::string home = absolute("HOME");
  return home.empty() ? home : home + "/.cache";
}

std::int64_t source_date_epoch(std::int64_t otherwise) {
  const char* const text = std::getenv("SOURCE_DATE_EPOCH");
  const auto value = text == nullptr ? std::nullopt : parse_number(text);
  return value ? static_cast<std::int64_t>(*value) : otherwise;
}

void sleep_milliseconds(int milliseconds) { std::this_thread::sleep_for(std::chrono::milliseconds(milliseconds)); }

std::string program_path() {
  std::string path(4096, '\0');
  const ssize_t size = readlink("/proc/self/exe", path.data(), path.size());
  path.resize(size > 0 ? static_cast<std::size_t>(size) : 0);
  return path;
}

void test_only_die() {
  kill(getpid(), SIGKILL);
  for (;;) pause();
}

std::string host_path(std::string_view given) {
  std::string whole(given);
  if (whole.empty() || whole.front() != '/') {
    char* const here = ::getcwd(nullptr, 0);
    if (here == nullptr) throw_errno(errno, "cannot tell the current directory", ".");
    whole = std::string(here) + "/" + whole;
    std::free(here);
  }
  std::vector<std::string> parts;
  for (const std::string_view part : split(whole, '/')) {
    if (part.empty() || part == ".") continue;
    if (part != "..")
      parts.emplace_back(part);
    else if (!parts.empty())
      parts.pop_back();
  }
  return join(parts, "/");
}

}  // namespace hambrel::os
