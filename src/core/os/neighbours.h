// Many paths in a row, most of them in the directory of the one before: that directory is held open meanwhile.
//
// Must never be kept while directories on the way are renamed: a handle follows the directory, not the path.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include "os/file_system.h"

namespace hambrel::os {

/// Only looks. For a time in which no directory is renamed.
class Looker {
 public:
  explicit Looker(FileReader& root) : root_(root) {}
  std::optional<FileInfo> stat(std::string_view path) {
    const auto parent = parent_of(path);
    if (!asked_ || parent != path_) {
      path_ = parent;
      directory_ = root_.look_into(parent);
      asked_ = true;
    }
    return directory_ == nullptr ? std::nullopt : directory_->stat(name_of(path));
  }

 private:
  FileReader& root_;
  bool asked_ = false;
  std::string path_;
  std::unique_ptr<DirectoryReader> directory_;
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
