// Bringing the indexes of repositories into the cache of a root, and reading them from there.
//
// Invariants: a cached index is replaced as a whole, after it was verified; a repository that fails keeps the index it
// had; what is read from the cache is checked against the digest that was verified when it was fetched.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/error.h"
#include "base/observer.h"
#include "model/advisory.h"
#include "model/universe.h"
#include "repo/compiled.h"
#include "repo/transfer.h"
#include "settings/settings.h"

namespace hambrel::repo {

struct RefreshResult {
  std::string repository, url;
  bool changed = false;
  std::uint64_t version = 0;     // of the index that is in the cache now; 0: none
  std::size_t packages = 0;      // package versions in it
  std::int64_t fetched = 0;      // when it was last seen to be current, seconds
  std::uint64_t root = 0;        // the number of the root document that it was verified by; 0: it was not
  std::vector<NewsItem> news{};  // those that were not there before, newest first
  std::optional<Error> problem;
};

/// Refreshes the given repositories side by side, then compiles the catalogue of `all` configured ones if anything in
/// it changed. `now` in seconds. One refresh of a root at a time: others wait, two minutes at most, then Error{Locked}.
/// What is older than the one at hand is refused; an unchanged repository counts as current only if its index in the
/// cache is still what was verified. A repository that nobody has trusted yet is refused, unless its file says that it
/// may be unsigned, or it was used before Hambrel knew signatures.
std::vector<RefreshResult> refresh(os::FileSystem& root, Network& network,
                                   const std::vector<settings::Repository>& repositories,
                                   const std::vector<settings::Repository>& all, std::int64_t now, Observer& observer);

/// A repository as the cache knows it.
struct CachedIndex {
  settings::Repository repository;
  std::uint64_t version = 0;
  std::int64_t fetched = 0;
  std::size_t packages = 0;
  std::uint64_t bytes = 0;             // of the index, as it lies in the cache
  std::string problem;                 // why it can't be used: never refreshed, damaged
  std::uint64_t root = 0;              // the number of the root document that it was verified by; 0: it was not
  std::vector<std::string> signers{};  // ids of the keys that signed for it
};

struct Catalog {
  std::shared_ptr<const Layer> base;  // of all repositories, the disabled ones too, and all architectures
  std::vector<CachedIndex> indexes;   // all repositories, by name
  bool compiled = false;              // taken from the stored catalogue
};

/// What the index cache holds for these repositories. From the stored catalogue where that is current (and
/// `may_use_stored`), else compiled in memory.
Catalog load_catalog(os::FileReader& root, const std::vector<settings::Repository>& repositories,
                     bool may_use_stored = true);

/// The stored catalogue alone, where it is current; nothing is compiled.
std::shared_ptr<const Layer> stored_catalogue(os::FileReader& root,
                                              const std::vector<settings::Repository>& repositories);

}  // namespace hambrel::repo
