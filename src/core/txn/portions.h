// Unpacking shared out among threads: which entries of which package, cut into portions that fit together.
#pragma once

#include <list>
#include <mutex>
#include <optional>
#include <vector>

#include "txn/transaction.h"

namespace hambrel::txn {

/// What is unpacked of one package: numbers in its table, ascending, and what is put there.
struct UnpackJob {
  std::vector<std::size_t> entries;
  std::vector<const Put*> puts;
};

/// By source.
std::vector<UnpackJob> jobs_of(const TreeChange& change, const std::vector<Source>& sources);

/// What one thread unpacks in one go: some of what is wanted of one package. No frame is needed for two of them.
struct Portion {
  std::size_t source, first, last;
  std::uint64_t end;  // in the package file: what has to arrive for it
};

/// Cuts what is wanted into portions, great ones first and small ones at the end, so that all threads end together.
std::vector<Portion> portions_of(const std::vector<Source>& sources, const std::vector<UnpackJob>& jobs,
                                 unsigned workers);

/// Hands portions out, each once: the first one whose bytes have arrived.
class Portions {
 public:
  Portions(const std::vector<Source>& sources, std::vector<Portion> portions)
      : sources_(sources), left_(portions.begin(), portions.end()) {}
  bool empty() const;
  /// Nothing if none has arrived.
  std::optional<Portion> take();

 private:
  const std::vector<Source>& sources_;
  mutable std::mutex mutex_;
  std::list<Portion> left_;
};

}  // namespace hambrel::txn
