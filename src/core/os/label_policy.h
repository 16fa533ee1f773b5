// The labels that a SELinux policy names for paths, looked up by libselinux in a text that the caller read.
#pragma once

#include <memory>
#include <string>

#include "os/file_system.h"

namespace hambrel::os {

class LabelPolicy {
 public:
  /// `contexts`: lines of file_contexts. Throws Error{Internal} without the library, Error{Invalid} where it can't read
  /// them.
  explicit LabelPolicy(const std::string& contexts);
  ~LabelPolicy();
  /// The label of "/usr/bin/lampctl", without a closing zero byte; empty: it names none. Several threads may ask.
  std::string look_up(const std::string& path, FileType type);

 private:
  struct Loaded;
  std::unique_ptr<Loaded> loaded_;
};

}  // namespace hambrel::os
