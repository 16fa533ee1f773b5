// The mirrors of a repository: how they did the last time that they were asked, and how they compare.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/observer.h"
#include "repo/transfer.h"
#include "settings/repository.h"

namespace hambrel::repo {

/// What is remembered of one that failed: var/cache/hambrel/mirrors/NAME.json.
struct MirrorFailure {
  std::string url, problem;
  std::int64_t time = 0;  // seconds
};

/// Of those that failed when they were last asked. Nothing where that can't be read.
std::vector<MirrorFailure> failures_of(os::FileReader& root, const std::string& repository);
void forget_failures(os::FileSystem& root, const std::string& repository);
/// Remembers what this run has seen of them. Written only where something is new.
void note_failures(os::FileSystem& root, Network& network, const settings::Repository& repository, std::int64_t now);

/// A median of some measurements, and the least and the greatest of them.
struct Spread {
  double median = 0, least = 0, greatest = 0;
  bool is_known() const { return greatest > 0; }
};

struct MirrorMeasure {
  std::string url;
  bool in_use = false;
  std::string problem;          // why it is of no use; empty: it is of use
  std::uint64_t timestamp = 0;  // the number of the timestamp that it has
  std::uint64_t behind = 0;     // how many timestamps it is behind the newest one that was seen
  Spread milliseconds;          // for a small file, over a connection that is there
  Spread rate;                  // bytes a second, of pieces of the index
  bool is_good() const { return problem.empty() && behind == 0; }
};

/// Asks each of them for its timestamp, which is verified, and a few times for pieces of the index, one after the other
/// so that they do not hinder each other. Best first: by the time that a mebibyte would take; then those that lag
/// behind, then those that are of no use. `now` in seconds.
std::vector<MirrorMeasure> compare_mirrors(os::FileReader& root, Network& network,
                                           const settings::Repository& repository, std::int64_t now,
                                           Observer& observer);

}  // namespace hambrel::repo
