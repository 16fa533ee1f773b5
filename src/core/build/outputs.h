// From the stage of a build to package files: split by the globs of the recipe, with the relations that were found.
#pragma once

#include <string>
#include <vector>

#include "archive/found_relations.h"
#include "build/build_root.h"
#include "build/recipe.h"
#include "build/workshop.h"
#include "operations/publishing.h"

namespace hambrel::build {

/// A relation that was found, and what became of it.
struct FoundRelation {
  std::string relation;  // as it stands in the package now; empty: nothing is known that brings it
  std::string what;      // "usr/bin/saltdb needs libtide.so.1"
};

struct MadePackage {
  Package package;
  std::string file;  // of the host
  ByteCount size = 0;
  Digest digest;
  std::vector<FoundRelation> found{};
  std::vector<std::string> provides{};  // found, as relations
};

/// What stands in the manifests of all of them on how they came to be: canonical JSON.
struct Origin {
  Digest recipe;
  Switches switches{};
  std::vector<std::string> sources{};  // SHA-256
  std::vector<std::string> against{};  // see BuildRoot
  bool host_tools = false;
  std::string text() const;
};

struct OutputTerms {
  std::string directory;            // of the host: where package files are put, NAME-VERSION.ARCH.hambrel
  int level = 9;                    // of zstd
  std::vector<std::string> keys{};  // to sign with
  operations::Passphrase passphrase{};
  std::int64_t epoch = 0;      // no file is newer
  std::string more_version{};  // at the end of the versions, beside the options
};

/// Takes the stage, a directory of the workshop, apart. `apart`: another one, that is made.
/// Throws Error{Invalid} where a package gets no file, or a file nobody's place.
std::vector<MadePackage> make_packages(Workshop& workshop, const Recipe& recipe, const Switches& switches,
                                       const std::string& stage, const std::string& apart, const Origin& origin,
                                       BuildRootPackages& root, const OutputTerms& terms, Observer& observer);

}  // namespace hambrel::build
