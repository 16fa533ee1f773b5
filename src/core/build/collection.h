// Recipes that repositories offer: their list, the folders of those that are built, and what somebody has read of them.
//
// A recipe of a collection is shown before it is built for the first time, and what has changed in it before the next:
// whoever builds runs what its maintainer wrote.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "build/sources.h"
#include "build/workshop.h"
#include "operations/root.h"
#include "repo/recipe_list.h"

namespace hambrel::build {

/// The list for a repository on the host, from the folders below its recipes/; makes the archives that it names. Throws
/// Error{Invalid} with file:line for a recipe with a mistake.
std::string list_recipes(os::FileSystem& repository, const std::string& machine);

struct Buildable {
  settings::Repository repository;
  bool is_signed = false;  // a trusted key vouches for it
  repo::OfferedRecipe recipe;
};
/// Of the enabled repositories, by name, the newest version first. What can't be read is told the observer.
std::vector<Buildable> buildable(operations::Root& root);
/// The newest recipe of a name, or the newest that makes a package of that name; nothing: there is none.
std::optional<Buildable> find_buildable(operations::Root& root, const std::string& name);

/// Its folder on the host: in the workshop, fetched where it is not there, and compared with the list. Throws
/// Error{Network}, Error{Untrusted}.
std::string bring(operations::Root& root, Workshop& workshop, const Buildable& wanted);

/// What is to be read before it is built.
struct Review {
  bool is_needed = false;
  bool is_first = false;             // nothing of it was read before; else what has changed since
  std::vector<std::string> lines{};  // as they are shown
};
Review review_of(Workshop& workshop, const std::string& folder, const Buildable& wanted);
/// It was read, or need not be.
void remember(Workshop& workshop, const std::string& folder, const Buildable& wanted);

}  // namespace hambrel::build
