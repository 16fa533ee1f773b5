#include "support/program.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <spawn.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <cstdlib>
#include <fstream>
#include <sstream>
#include <stdexcept>

#include "base/digest.h"
#include "base/error.h"

extern char** environ;  // NOLINT

namespace hambrel::test {

std::string refusal(const std::function<void()>& work) {
  try {
    work();
  } catch (const Error& error) {
    return error.what();
  }
  return "accepted";
}

TempDir::TempDir() {
  std::string pattern = (fs::temp_directory_path() / "hambrel-test.XXXXXX").string();
  if (mkdtemp(pattern.data()) == nullptr) throw std::runtime_error("mkdtemp");
  path_ = pattern;
}

TempDir::~TempDir() {
  std::error_code ignored;
  fs::remove_all(path_, ignored);
}

std::string read_file(const fs::path& path) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream text;
  text << in.rdbuf();
  return text.str();
}

void write_file(const fs::path& path, const std::string& content, unsigned mode) {
  fs::create_directories(path.parent_path());
  std::ofstream(path, std::ios::binary | std::ios::trunc) << content;
  ::chmod(path.c_str(), mode);
}

void set_times(const fs::path& top, long seconds) {
  const timespec times[2] = {{seconds, 0}, {seconds, 0}};
  std::vector<fs::path> all{top};
  for (const auto& entry : fs::recursive_directory_iterator(top)) all.push_back(entry.path());
  for (const fs::path& path : all) ::utimensat(AT_FDCWD, path.c_str(), times, AT_SYMLINK_NOFOLLOW);
}

Ran run(const std::vector<std::string>& words, const std::map<std::string, std::string>& environment) {
  const TempDir scratch;
  const std::string out = scratch / "out", err = scratch / "err";
  std::vector<char*> arguments;
  for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  std::vector<std::string> variables;
  for (char** one = environ; *one != nullptr; ++one) variables.emplace_back(*one);
  for (const auto& [name, value] : environment) variables.push_back(name + "=" + value);
  std::vector<char*> variable_pointers;
  for (std::string& one : variables) variable_pointers.push_back(one.data());
  variable_pointers.push_back(nullptr);
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
  posix_spawn_file_actions_addopen(&actions, 1, out.c_str(), O_WRONLY | O_CREAT, 0600);
  posix_spawn_file_actions_addopen(&actions, 2, err.c_str(), O_WRONLY | O_CREAT, 0600);
  pid_t child = 0;
  const int problem = posix_spawnp(&child, arguments[0], &actions, nullptr, arguments.data(), variable_pointers.data());
  posix_spawn_file_actions_destroy(&actions);
  if (problem != 0) throw std::runtime_error("cannot run " + words[0]);
  int status = 0;
  waitpid(child, &status, 0);
  Ran ran;
  ran.code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  ran.out = read_file(out);
  ran.err = read_file(err);
  return ran;
}

namespace {

std::string attributes_of(const std::string& path) {
  std::string names(4096, '\0'), text;
  const ssize_t size = ::llistxattr(path.c_str(), names.data(), names.size());
  for (ssize_t at = 0; at < size;) {
    const std::string name = names.c_str() + at;
    at += static_cast<ssize_t>(name.size()) + 1;
    std::string value(4096, '\0');
    value.resize(static_cast<std::size_t>(
        std::max<ssize_t>(0, ::lgetxattr(path.c_str(), name.c_str(), value.data(), value.size()))));
    text += " " + name + "=" + value;
  }
  return text;
}

std::string facts(const fs::path& path) {
  struct ::stat info {};
  ::lstat(path.c_str(), &info);
  std::string text = fmt::format("{:o} {}:{} {}.{:09} {}", info.st_mode, info.st_uid, info.st_gid, info.st_mtim.tv_sec,
                                 info.st_mtim.tv_nsec, info.st_nlink);
  if (S_ISLNK(info.st_mode)) text += " -> " + fs::read_symlink(path).string();
  if (S_ISREG(info.st_mode)) text += " " + sha256(read_file(path)).hex();
  return text + attributes_of(path.string());
}

}  // namespace

std::map<std::string, std::string> tree(const fs::path& root, const std::vector<std::string>& without) {
  std::map<std::string, std::string> result;
  for (auto at = fs::recursive_directory_iterator(root); at != fs::recursive_directory_iterator(); ++at) {
    const std::string path = at->path().lexically_relative(root).string();  // a link by its own name
    bool left_out = false;
    for (const std::string& one : without) left_out = left_out || path == one || path.starts_with(one + "/");
    if (left_out) {
      if (at->is_directory() && !at->is_symlink()) at.disable_recursion_pending();
      continue;
    }
    result[path] = facts(root / path);
  }
  return result;
}

std::map<std::string, std::string> without_link_counts(std::map<std::string, std::string> files) {
  for (auto& [path, facts] : files) {
    if (!facts.starts_with("100")) continue;
    std::size_t at = 0;
    for (int field = 0; field < 3; ++field) at = facts.find(' ', at) + 1;
    facts.erase(at, facts.find(' ', at) - at + 1);
  }
  return files;
}

}  // namespace hambrel::test
