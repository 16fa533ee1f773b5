// Helpers of the tests: temporary directories, running programs, telling everything about a tree.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <string>
#include <vector>

#include "os/file_system.h"

namespace hambrel::test {

namespace fs = std::filesystem;

/// A directory that is gone after the test.
class TempDir {
 public:
  TempDir();
  ~TempDir();
  TempDir(const TempDir&) = delete;
  TempDir& operator=(const TempDir&) = delete;
  fs::path path() const { return path_; }
  fs::path operator/(const std::string& name) const { return path_ / name; }
  std::string text() const { return path_.string(); }

 private:
  fs::path path_;
};

struct Ran {
  int code = 0;  // the exit code, 128 + the signal's number if one ended it
  std::string out, err;
};

/// Runs a program by its path with an empty standard input; `environment` is added to the test's own.
Ran run(const std::vector<std::string>& words, const std::map<std::string, std::string>& environment = {});

void write_file(const fs::path& path, const std::string& content, unsigned mode = 0644);
std::string read_file(const fs::path& path);
/// Sets the times of everything below a directory, so that two packs of it are the same.
void set_times(const fs::path& top, long seconds);

/// Path -> "type mode uid:gid size mtime links content-or-target xattrs" of everything below `root`; paths that begin
/// with one of `without` are left out.
std::map<std::string, std::string> tree(const fs::path& root, const std::vector<std::string>& without = {});

/// What went wrong, as Error::what() tells it; "accepted" if nothing did.
std::string refusal(const std::function<void()>& work);

/// A written file that stays in memory.
class MemorySink final : public os::WritableFile {
 public:
  using os::WritableFile::write;
  void write(std::span<const std::byte> data) override {
    content.append(reinterpret_cast<const char*>(data.data()), data.size());
  }
  void skip(std::uint64_t size) override { content.append(size, '\0'); }
  void sync() override {}
  void finish(const os::Metadata&) override {}
  std::string content;
};

/// A listing without the number of names of each file: the attic has one more of what came back from it.
std::map<std::string, std::string> without_link_counts(std::map<std::string, std::string> files);

}  // namespace hambrel::test
