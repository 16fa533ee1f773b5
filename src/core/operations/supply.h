// Where the content of package versions is: a file that was given, the attic, the cache, or a repository, of which no
// more is fetched than is needed.
//
// Which file it has to be is known from the index or from the state: a file in the cache is taken for what its digest,
// or that of its table of contents, says; one in a repository has to have the table that the index names. A cache is
// not a safe: what is damaged there is told and fetched again.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "archive/package_reader.h"
#include "operations/root.h"
#include "txn/transaction.h"

namespace hambrel::operations {

using Tables = std::map<PackageId, std::shared_ptr<const archive::Contents>>;

/// The tables of contents of these versions, wherever they are; those of repositories are fetched side by side. Those
/// whose file in the cache turned out to be damaged are added to `damaged`.
Tables tables_of(Root& root, const std::vector<PackageId>& ids, std::vector<PackageId>* damaged = nullptr);
/// All that a version brings: of an installed one from the state.
std::vector<FileEntry> files_of(Root& root, PackageId id);
/// The content of one file of a version that a file was given for, or that a repository offers.
std::string content_of(Root& root, PackageId id, const std::string& path,
                       const std::shared_ptr<const archive::Contents>& contents);

/// Package files of versions that are or were installed, opened where they lie.
class VersionFiles {
 public:
  explicit VersionFiles(Root& root) : root_(root) {}
  /// No reader where the version can't be had any more. Why a place did not serve is said on standard error.
  txn::PackageFile open(const state::StatePackage& package);
  txn::FileOf file_of() {
    return [this](const state::StatePackage& package) { return open(package); };
  }

 private:
  archive::PackageReader* in_cache(const state::StatePackage& package);
  archive::PackageReader* in_repository(const state::StatePackage& package);
  archive::PackageReader* keep(std::unique_ptr<archive::PackageReader> reader) {
    readers_.push_back(std::move(reader));
    return readers_.back().get();
  }

  Root& root_;
  std::vector<std::unique_ptr<archive::PackageReader>> readers_;
};

}  // namespace hambrel::operations
