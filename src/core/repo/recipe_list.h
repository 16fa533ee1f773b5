// The list of recipes of a repository: packages that it does not have, but that can be built (docs/recipe.md). A signed
// file of its index, as advisories are.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "os/file_system.h"
#include "settings/settings.h"
#include "trust/documents.h"

namespace hambrel::repo {

struct OfferedRecipe {
  std::string name, version, summary, license;
  std::vector<std::string> packages{};           // that it makes
  std::map<std::string, std::string> options{};  // name, what it is for
  Digest digest;                                 // of its folder
  std::string archive;                           // a package file with the folder, below the repository
  std::uint64_t size = 0;                        // of that, bytes
  Digest archive_digest;
};

/// A list in JSON; throws Error{Invalid} naming `where`.
std::vector<OfferedRecipe> parse_recipe_list(std::string_view text, const std::string& where);
/// Canonical; empty for an empty list.
std::string recipe_list_text(const std::vector<OfferedRecipe>& recipes);

/// Of one repository, as the cache has it; none where there are none. Throws Error{Untrusted} where that is damaged.
std::vector<OfferedRecipe> recipes_of(os::FileReader& root, const settings::Repository& repository);

}  // namespace hambrel::repo
