// Packages that are installed, shelved or kept, and the lists of their files.
#pragma once

#include <memory>
#include <vector>

#include "model/file_list.h"
#include "state/records.h"
#include "state/store.h"

namespace hambrel::state {

class PackageStore : protected Store {
 public:
  std::vector<StatePackage> installed() const;  // by name
  std::vector<Replaced> replaced() const;       // those that left last come first
  /// Of these, those that may have had configuration.
  std::vector<Replaced> replaced_with_configuration() const;
  std::vector<StatePackage> shelved() const;  // by name
  std::vector<StatePackage> acting() const;   // installed, and asking for more than files; by name
  StatePackage package(std::int64_t row) const;
  std::shared_ptr<const FileList> files_of(std::int64_t package_row) const;
  std::vector<FileEntry> configuration_of(std::int64_t package_row) const;  // its regular files that are configuration
  /// Not so for a version that is known only from the ledger of a state that was lost.
  bool knows_files_of(std::int64_t package_row) const;

 protected:
  std::vector<Replaced> replaced(const char* condition) const;
  using Store::Store;
  friend class State;
};

}  // namespace hambrel::state
