// Security labels (the extended attribute security.selinux) of what comes into a root that uses them.
//
// What is staged would have the label of the stage, and keep it when it is renamed into its place. So it is given the
// one that the root's own policy names for its path, looked up by libselinux; where there is no policy or no library,
// that of what stands at its path, else of the directory that it comes into, as the kernel would do.
#pragma once

#include <memory>
#include <string>

#include "base/observer.h"
#include "model/file_entry.h"
#include "os/file_system.h"
#include "os/label_policy.h"

namespace hambrel::txn {

class Labels {
 public:
  /// Looks whether the root uses labels; loads its policy if so. What is missing is told to the observer, once.
  Labels(os::FileReader& root, Observer& observer);
  ~Labels();
  Labels(Labels&&) noexcept;
  /// The label for what comes to a path, with its closing zero byte; empty: none. Several threads may ask.
  std::string of(const FileEntry& entry) const;

 private:
  std::string label_at(std::string_view path) const;

  os::FileReader& root_;
  bool used_ = false;
  std::unique_ptr<os::LabelPolicy> policy_;
};

}  // namespace hambrel::txn
