// Many paths in a row, most of them in the directory of the one before, or beside it: those are held open meanwhile.
//
// Must never be kept while directories on the way are renamed: a handle follows the directory, not the path.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/text_map.h"
#include "os/file_system.h"

namespace hambrel::os {

/// Only looks. For a time in which no directory is renamed.
class Looker {
 public:
  explicit Looker(FileReader& root) : root_(root) {}
  std::optional<FileInfo> stat(std::string_view path) {
    DirectoryReader* const directory = open(parent_of(path));
    return directory == nullptr ? std::nullopt : directory->stat(name_of(path));
  }

 private:
  struct Opened {
    std::string path;
    std::unique_ptr<DirectoryReader> directory;  // none: there is no such directory, and so nothing below it
  };

  DirectoryReader* open(std::string_view path) {
    const auto leads_to = [&](const Opened& one) {
      return one.path.empty() || path == one.path || is_below(path, one.path);
    };
    while (!way_.empty() && !leads_to(way_.back())) way_.pop_back();
    if (!way_.empty() && way_.back().path == path) return way_.back().directory.get();
    std::unique_ptr<DirectoryReader> found;
    const bool below_nothing = !way_.empty() && way_.back().directory == nullptr;
    if (!way_.empty() && !below_nothing && way_.back().path == parent_of(path))
      found = way_.back().directory->look_into(name_of(path));
    if (found == nullptr && !below_nothing) found = root_.look_into(path);
    way_.push_back({std::string(path), std::move(found)});
    return way_.back().directory.get();
  }

  FileReader& root_;
  std::vector<Opened> way_;  // each below the one before; the last was asked for last
};

/// What stands where directories are looked for, each asked for once. For a time in which nothing is moved.
class DirectoryFacts {
 public:
  explicit DirectoryFacts(FileReader& root) : looker_(root) {}
  /// Links are not followed.
  std::optional<FileInfo> stat(std::string_view path) {
    if (const auto known = known_.find(path); known != known_.end()) return known->second;
    return known_.emplace(path, looker_.stat(path)).first->second;
  }
  void remember(std::string_view path, const FileInfo& info) { known_.emplace(path, info); }

 private:
  Looker looker_;
  TextMap<std::optional<FileInfo>> known_;
};

/// Holds the directory open that was asked for last.
class LastDirectory {
 public:
  explicit LastDirectory(FileSystem& root) : root_(root) {}
  /// The parent of a path.
  Directory& of(std::string_view path) {
    const auto parent = parent_of(path);
    if (open_ == nullptr || parent != path_) {
      open_.reset();
      open_ = root_.open_directory(parent);
      path_ = parent;
    }
    return *open_;
  }
  /// To be called when a directory may have been renamed.
  void forget() { open_.reset(); }

 private:
  FileSystem& root_;
  std::string path_;
  std::unique_ptr<Directory> open_;
};

}  // namespace hambrel::os
