// A first package.toml or recipe.toml of what somebody else made: a tree of files as they lie on a system, or sources.
//
// It is a draft: what could be seen is in it, and what has to be looked at is said in comments and remarks.
#pragma once

#include <string>
#include <vector>

#include "build/recipe.h"
#include "build/workshop.h"
#include "operations/root.h"

namespace hambrel::build {

struct Draft {
  enum class Kind { Package, Recipe };
  Kind kind = Kind::Package;
  std::string folder;  // of the host: with package.toml and root/, or recipe.toml and the sources
  std::string name, version;
  std::vector<std::string> remarks{};  // sentences
};

/// `from`: a directory or an archive of the host. `into`: the folder that is made; empty: NAME here. Throws
/// Error{NotFound}, Error{Invalid}, Error{Refused} where the folder is there already.
Draft make_draft(operations::Root& root, const std::string& from, const std::string& into);

}  // namespace hambrel::build
