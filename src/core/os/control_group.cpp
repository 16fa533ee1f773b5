#include "os/control_group.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <charconv>
#include <csignal>
#include <filesystem>
#include <string_view>
#include <system_error>
#include <tuple>

#include "os/handle.h"

namespace hambrel::os {

namespace {

constexpr const char* kGroups = "/sys/fs/cgroup";
constexpr std::string_view kPrefix = "hambrel-";  // and the number of the process that made it

bool write_to(const std::string& path, const std::string& text) {
  const Handle file(::open(path.c_str(), O_WRONLY | O_CLOEXEC));
  return file.get() >= 0 && ::write(file.get(), text.data(), text.size()) == static_cast<ssize_t>(text.size());
}

/// A short one; empty where there is none.
std::string text_of(const std::string& path) {
  const Handle file(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
  std::array<char, 4096> text{};
  const ssize_t size = file.get() < 0 ? 0 : ::read(file.get(), text.data(), text.size());
  return {text.data(), static_cast<std::size_t>(size < 0 ? 0 : size)};
}

/// Groups of processes that were killed stay behind. One that still has processes is not removed by this.
void remove_left_over(const std::string& parent) {
  std::error_code none;
  for (const auto& one : std::filesystem::directory_iterator(parent, none)) {
    const std::string name = one.path().filename();
    if (!name.starts_with(kPrefix)) continue;
    pid_t maker = 0;
    const char* const end = name.data() + name.size();
    if (std::from_chars(name.data() + kPrefix.size(), end, maker).ptr != end || maker <= 0) continue;
    if (::kill(maker, 0) != 0 && errno == ESRCH) ::rmdir(one.path().c_str());
  }
}

}  // namespace

ControlGroup::ControlGroup(unsigned tasks, std::uint64_t memory, bool only_limit_of_tasks) {
  const std::string groups = kGroups, most = fmt::format("{}", tasks), bytes = fmt::format("{}", memory);
  if (::access((groups + "/cgroup.controllers").c_str(), F_OK) == 0) {
    add(groups, {{"pids.max", most}, {"memory.max", bytes}, {"memory.swap.max", "0"}}, "memory.events");
    return;
  }
  if (!only_limit_of_tasks) return;
  // the first version of the interface, with a tree for each controller
  add(groups + "/pids", {{"pids.max", most}}, "");
  add(groups + "/memory", {{"memory.limit_in_bytes", bytes}}, "memory.oom_control");
}

void ControlGroup::add(const std::string& parent, const std::vector<std::pair<std::string, std::string>>& files,
                       const std::string& events) {
  remove_left_over(parent);
  const std::string directory = fmt::format("{}/{}{}", parent, kPrefix, ::getpid());
  if (::mkdir(directory.c_str(), 0755) != 0) return;
  // a controller that is not switched on has no files
  for (const auto& [name, text] : files) std::ignore = write_to(directory + "/" + name, text);
  parts_.push_back({directory, events});
}

ControlGroup::~ControlGroup() {
  for (const Part& part : parts_) {
    // the last of its processes has ended, but may not have left yet
    for (int tries = 0; tries < 100 && ::rmdir(part.directory.c_str()) != 0 && errno == EBUSY; ++tries) ::usleep(1000);
  }
}

void ControlGroup::take(pid_t process) const {
  for (const Part& part : parts_) std::ignore = write_to(part.directory + "/cgroup.procs", fmt::format("{}", process));
}

bool ControlGroup::ran_out_of_memory() const {
  for (const Part& part : parts_) {
    if (part.events.empty()) continue;
    const std::string text = text_of(part.directory + "/" + part.events);
    const std::size_t at = text.find("oom_kill ");
    if (at != std::string::npos && text[at + 9] != '0') return true;
  }
  return false;
}

}  // namespace hambrel::os
