#include "os/host.h"

#include <malloc.h>
#include <pwd.h>
#include <signal.h>
#include <sys/utsname.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <thread>

#include "base/text.h"

namespace hambrel::os {

std::string machine_architecture() {
  utsname names{};
  return uname(&names) == 0 ? names.machine : "unknown";
}

bool is_superuser() { return geteuid() == 0; }

std::string user_name() {
  const passwd* const entry = getpwuid(geteuid());
  const std::string effective = entry != nullptr ? entry->pw_name : std::to_string(geteuid());
  const char* const before = std::getenv("SUDO_USER");
  if (is_superuser() && before != nullptr && *before != '\0' && effective != before)
    return printable(before) + " (as " + effective + ")";
  return effective;
}

int process_id() { return getpid(); }

void keep_freed_memory() {
  ::mallopt(M_TRIM_THRESHOLD, 256 << 20);
  ::mallopt(M_MMAP_THRESHOLD, 32 << 20);
}

unsigned processors() { return std::max(1U, std::thread::hardware_concurrency()); }

std::int64_t now() {
  return std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now().time_since_epoch()).count();
}

std::int64_t monotonic_milliseconds() {
  return std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now().time_since_epoch())
      .count();
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

}  // namespace hambrel::os
