// Getting package files into the cache of a root, each locked by the digest that the index names.
//
// Invariant: a file under its final name in the cache had the right size and SHA-256 when it was put there. A cache is
// not a safe: whoever unpacks it checks the table of contents against the index and every frame against the table.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "archive/frame_ranges.h"
#include "base/observer.h"
#include "model/universe.h"
#include "settings/settings.h"

namespace hambrel::repo {

class Network;

inline constexpr const char* kPackageCache = "var/cache/hambrel/packages";

/// A package file, or ranges of it: these don't make it one of the cache.
struct PackageToFetch {
  Package package;
  Offer offer;
  std::shared_ptr<const archive::Contents> contents{};       // of ranges: what they are checked against
  std::optional<std::vector<archive::FrameRange>> ranges{};  // ascending; nothing: all of it
  bool is_to_last = false;  // it is counted on after a power cut: the disk gets it while others still come
};

/// var/cache/hambrel/packages/NAME/VERSION.ARCH.hambrel
std::string cache_path(const Package& package);
/// Is the file in the cache already? By size only.
bool in_cache(os::FileReader& root, const Package& package, const Offer& offer);

/// Removes files from the cache that are not what the index names, read whole. Returns their names.
std::vector<std::string> drop_damaged(os::FileSystem& root, const std::vector<PackageToFetch>& wanted);

/// Brings all of them into the cache, in parallel. Returns the bytes that were fetched. Throws the first problem, in
/// the order of `wanted`, after all transfers have ended; what arrived whole stays in the cache. `sync`: it is on the
/// disk then. Else the kernel brings it there; what a power cut takes is found by its digest and fetched again.
ByteCount download(os::FileSystem& root, Network& network, const std::vector<PackageToFetch>& wanted,
                   const std::vector<settings::Repository>& repositories, Observer& observer, bool sync = false);

}  // namespace hambrel::repo
