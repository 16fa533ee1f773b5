#include "os/processes.h"

#include <fmt/format.h>
#include <pwd.h>
#include <unistd.h>

#include <array>
#include <charconv>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <string_view>
#include <system_error>

namespace hambrel::os {

namespace {

/// A file of /proc; empty where the process has ended or is not ours to look into.
std::string text_of(const std::filesystem::path& path) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream text;
  if (in) text << in.rdbuf();
  return std::move(text).str();
}

constexpr std::string_view kDeleted = " (deleted)";

/// Not of a package: memory that has a name, devices, and what programs make for a while.
bool is_fleeting(std::string_view path) {
  for (const std::string_view beginning :
       {"/memfd:", "/dev/", "/SYSV", "/tmp/", "/var/tmp/", "/run/", "/[aio]", "/proc/"})
    if (path.starts_with(beginning)) return true;
  return false;
}

void look_at_maps(const std::string& maps, const std::string& attic, std::set<std::string>& replaced) {
  std::istringstream lines(maps);
  for (std::string line; std::getline(lines, line);) {
    const std::size_t at = line.find('/');
    if (at == std::string::npos) continue;
    std::string path = line.substr(at);
    const bool deleted = path.ends_with(kDeleted);
    if (deleted) path.erase(path.size() - kDeleted.size());
    if ((deleted && !is_fleeting(path)) || path.starts_with(attic)) replaced.insert(path);
  }
}

/// Those in containers have files of their own.
bool is_of_this_root(const std::filesystem::path& process) {
  std::error_code none;
  return std::filesystem::equivalent(process / "root/.", "/", none) || none;
}

/// "Name:\tword", "PPid:\t1", "Uid:\treal effective ...".
void look_at_status(const std::string& status, Process& process) {
  std::istringstream lines(status);
  for (std::string key; lines >> key;) {
    std::string rest;
    if (key == "PPid:") lines >> process.parent;
    if (key == "Uid:") lines >> rest >> process.user;
    std::getline(lines, rest);
    if (key == "Name:" && rest.size() > 1) process.name = rest.substr(1);
  }
}

}  // namespace

std::string system_text(const std::string& path) { return text_of(path); }

bool is_system_directory(const std::string& path) {
  std::error_code none;
  return std::filesystem::is_directory(path, none);
}

bool is_own_root(const std::string& path) {
  std::error_code none;
  return std::filesystem::equivalent(path, "/", none) && !none;
}

std::vector<int> processes_of_group(const std::string& group) {
  std::vector<int> all;
  if (group.empty()) return all;
  std::istringstream numbers(text_of(fmt::format("/sys/fs/cgroup{}/cgroup.procs", group)));
  for (int one = 0; numbers >> one;) all.push_back(one);
  return all;
}

std::vector<Process> processes(bool with_files, const std::string& attic) {
  std::vector<Process> all;
  std::error_code none;
  for (const auto& entry : std::filesystem::directory_iterator("/proc", none)) {
    const std::string number = entry.path().filename();
    Process process;
    const char* const end = number.data() + number.size();
    if (std::from_chars(number.data(), end, process.id).ptr != end) continue;
    const std::string status = text_of(entry.path() / "status");
    if (status.empty() || !is_of_this_root(entry.path())) continue;
    look_at_status(status, process);
    process.program = std::filesystem::read_symlink(entry.path() / "exe", none);
    if (with_files) look_at_maps(text_of(entry.path() / "maps"), attic, process.replaced);
    all.push_back(std::move(process));
  }
  return all;
}

std::string user_name_of(std::uint32_t user) {
  std::array<char, 4096> buffer{};
  passwd entry{};
  passwd* found = nullptr;
  if (::getpwuid_r(user, &entry, buffer.data(), buffer.size(), &found) == 0 && found != nullptr) return entry.pw_name;
  return fmt::format("{}", user);
}

}  // namespace hambrel::os
