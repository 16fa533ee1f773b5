// The throw-away system that a package is built in: what its recipe needs, installed into an empty root by an ordinary
// transaction of the repositories of the system that it is built for.
//
// Two builds that need the same package files use the same build root: it is only ever read, and its name tells what
// is in it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "build/recipe.h"
#include "build/workshop.h"
#include "operations/root.h"

namespace hambrel::build {

struct BuildRoot {
  std::string path;  // of the host, absolute; "/" with the machine's own tools
  bool is_host = false;
  bool was_there = false;  // made by a build before
  std::size_t packages = 0;
  ByteCount bytes = 0;    // of its files
  ByteCount fetched = 0;  // for it, bytes
  /// "libtide 1.8-1 x86_64 SHA256": what it is built against, by name.
  std::vector<std::string> against{};
};

struct BuildRootTerms {
  /// Package files of the host that may be used, too: they count more than what repositories offer.
  std::vector<std::string> package_files{};
  std::function<bool()> stop_asked = [] { return false; };
};

/// What would be in it, without making it.
/// Throws Error{Refused} with the reason and remedies where the needs can't be met.
BuildRoot planned_build_root(operations::Root& root, Workshop& workshop, Bench& bench, const Needs& needs,
                             const BuildRootTerms& terms, Observer& observer);
/// Makes it, or finds the one that is there.
BuildRoot make_build_root(operations::Root& root, Workshop& workshop, Bench& bench, const Needs& needs,
                          const BuildRootTerms& terms, Observer& observer);

/// Who of a build root has a path, a library or a module: for relations that were found. With the machine's own tools
/// it is the system that the packages are for.
class BuildRootPackages {
 public:
  BuildRootPackages(const BuildRoot& made, const operations::RootOptions& system, Observer& observer);
  ~BuildRootPackages();
  /// The package that has the file at an absolute path, links followed; empty: none.
  std::string owner_of(const std::string& path);
  /// Is something called or does it provide this? Of a build root something installed, else something that can be had.
  bool provides(const Constraint& constraint);
  /// The package whose file a shared library is, in the usual directories; empty: none.
  std::string owner_of_library(const std::string& soname);

 private:
  std::unique_ptr<operations::Root> root_;
  bool offers_count_;
};

}  // namespace hambrel::build
