#include "os/preview_taken.h"

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <array>
#include <cstddef>

#include "os/handle.h"

namespace hambrel::os::child {

namespace {

/// The second and third number of the file: pages in memory, and those of them that files back.
std::uint64_t own_memory(int process) {
  const Handle file(::openat(process, "statm", O_RDONLY | O_CLOEXEC));
  if (file.get() < 0) return 0;
  std::array<char, 128> text{};
  const ssize_t size = ::read(file.get(), text.data(), text.size() - 1);
  std::array<std::uint64_t, 3> numbers{};
  std::size_t field = 0;
  for (ssize_t at = 0; at < size && field < numbers.size(); ++at) {
    const char c = text[static_cast<std::size_t>(at)];
    if (c >= '0' && c <= '9')
      numbers[field] = 10 * numbers[field] + static_cast<std::uint64_t>(c - '0');
    else
      ++field;
  }
  constexpr std::uint64_t kPage = 4096;  // at least: a page may be larger
  return numbers[1] > numbers[2] ? (numbers[1] - numbers[2]) * kPage : 0;
}

/// One that ended meanwhile takes nothing.
Taken taken_by(int proc, const char* name) {
  Taken taken;
  const Handle process(::openat(proc, name, O_PATH | O_DIRECTORY | O_CLOEXEC));
  if (process.get() < 0) return taken;
  struct stat tasks {};
  // a directory for each, beside "." and ".."
  if (::fstatat(process.get(), "task", &tasks, 0) == 0 && tasks.st_nlink > 2)
    taken.tasks = static_cast<unsigned>(tasks.st_nlink - 2);
  taken.memory = own_memory(process.get());
  return taken;
}

}  // namespace

bool taken_by_all(Taken& all) {
  const Handle proc(::open("/proc", O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (proc.get() < 0) return false;
  alignas(dirent64) static std::array<char, 32768> buffer;
  for (long size = 0; (size = ::syscall(SYS_getdents64, proc.get(), buffer.data(), buffer.size())) > 0;)
    for (long at = 0; at < size;) {
      const auto* const entry = reinterpret_cast<const dirent64*>(buffer.data() + at);
      at += entry->d_reclen;
      if (entry->d_name[0] < '0' || entry->d_name[0] > '9') continue;
      const Taken one = taken_by(proc.get(), entry->d_name);
      all.tasks += one.tasks;
      all.memory += one.memory;
    }
  return true;
}

}  // namespace hambrel::os::child
