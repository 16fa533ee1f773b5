// The package files of what a change brings: given by the administrator, in the cache, or fetched while they are read.
//
// What the attic brings back has no file here. A file from outside is read whole before anything else happens, as
// nobody vouches for it; of the others the index has named the table of contents, which names the rest.
#pragma once

#include <functional>
#include <memory>
#include <vector>

#include "operations/content_here.h"
#include "operations/supply.h"
#include "plan/plan.h"
#include "repo/download_queue.h"
#include "txn/transaction.h"

namespace hambrel::operations {

class IncomingFiles {
 public:
  /// Of every step that brings files, in their order.
  IncomingFiles(Root& root, const plan::Plan& plan);

  /// Those that a repository offers.
  const std::vector<repo::PackageToFetch>& offered() const { return offered_; }
  /// From here on no more is fetched of each than this change needs: of its file, all or ranges; what is in the root
  /// already is taken from there. Says so in `tree`.
  void supply(txn::TreeChange& tree, const Tables& tables, ContentHere& here, unsigned workers);
  /// Bytes that are still to be fetched of a version, with what supply() has chosen. Nothing: no repository's is used.
  std::optional<ByteCount> missing_of(PackageId id) const;
  /// Of its package file, where only ranges of it are fetched; else 0.
  ByteCount whole_of(PackageId id) const;
  ByteCount missing() const;

  void verify_outside() const;
  /// Gives the sources of a change their readers. What the cache does not have is fetched from here on, and read while
  /// it comes. May be called again after drop_damaged().
  void open(txn::Planned& planned, const Tables& tables, const std::function<bool()>& stop_asked);
  /// A package file in the cache that turned out to be damaged when it was unpacked, frame by frame, each by its
  /// digest, or one that was fetched from where an earlier try had ended: it goes, and true says that another try is
  /// worth it.
  bool drop_damaged(const Error& problem);
  /// Bytes that were fetched so far.
  ByteCount fetched() const { return arrivals_ ? arrivals_->fetched() : 0; }
  /// The change was made: ranges that were fetched for it are of no use any more.
  void drop_ranges() {
    if (arrivals_) arrivals_->drop_ranges();
  }

 private:
  Root& root_;
  const repo::PackageToFetch* offered_of(PackageId id) const;
  bool is_in_cache(const repo::PackageToFetch& one) const {
    return repo::in_cache(root_.files(), one.package, one.offer);
  }

  std::vector<PackageId> coming_;
  std::vector<repo::PackageToFetch> offered_;
  std::vector<std::size_t> offered_of_;  // by coming one; npos: it is given, or the attic brings it back
  std::unique_ptr<repo::DownloadQueue> arrivals_;
  std::vector<std::unique_ptr<archive::PackageReader>> owned_;
};

}  // namespace hambrel::operations
