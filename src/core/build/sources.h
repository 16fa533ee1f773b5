// The sources of a recipe: fetched once, checked whenever they are used, unpacked for a build.
#pragma once

#include <string>
#include <vector>

#include "build/recipe.h"
#include "build/workshop.h"
#include "operations/root.h"

namespace hambrel::build {

/// The folder of a recipe, on the host.
class RecipeFolder {
 public:
  /// `given`: the folder, or the recipe.toml in it. Throws Error{NotFound}, Error{Invalid}.
  RecipeFolder(const std::string& given, const std::string& machine);

  const Recipe& recipe() const { return recipe_; }
  os::FileSystem& files() const { return *files_; }
  /// As it was given, for messages.
  const std::string& shown() const { return shown_; }
  /// Of every file in it, its name and whether it can be run: two folders with the same one build the same.
  const Digest& digest() const { return digest_; }
  /// Throws Error{NotFound} for a file that it does not have: `what` says what it was named as.
  void require(const std::string& file, const std::string& what, const std::string& at) const;

 private:
  std::string shown_;
  std::unique_ptr<os::FileSystem> files_;
  Recipe recipe_;
  Digest digest_;
};

/// Brings those that are behind a URL into the workshop. Throws Error{Network}, and Error{Untrusted} for one that is
/// not what the recipe says. Returns the bytes that were fetched.
ByteCount fetch_sources(operations::Root& root, Workshop& workshop, const RecipeFolder& folder,
                        const std::vector<Source>& sources, const std::function<bool()>& stop_asked);

/// Puts all of them into the directory `into` of the workshop. Returns the time of the newest file of the archives,
/// seconds since 1970, 0 if there are none. Checks digests anew.
std::int64_t unpack_sources(Workshop& workshop, const RecipeFolder& folder, const std::vector<Source>& sources,
                            const std::string& into);

}  // namespace hambrel::build
