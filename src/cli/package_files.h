// Package files of versions that are or were installed, opened where they lie: in the cache, or in a repository, of
// which only the frames that are needed are read.
//
// Which file it has to be is known from the state: a file in the cache is read whole and must have its digest, one in a
// repository must be listed with it, and has to have the table of contents that the index names.
#pragma once

#include <memory>
#include <vector>

#include "cli/session.h"
#include "txn/transaction.h"

namespace hambrel::cli {

class PackageFiles {
 public:
  explicit PackageFiles(Session& session) : session_(session) {}
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

  Session& session_;
  std::vector<std::unique_ptr<archive::PackageReader>> readers_;
};

}  // namespace hambrel::cli
