// Looking at packages: which ones a spec means, who owns a file, who needs whom.
#pragma once

#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "operations/change.h"
#include "plan/trees.h"

namespace hambrel::operations {

/// What a spec means to somebody who looks: of a name the installed version, else the best on offer; of a pattern one
/// version of each name; the file that was given. Throws what select() throws.
std::vector<PackageId> described(Root& root, const Spec& spec);

/// Installed packages that have this path of the host's notation, by name.
std::vector<std::string> owners_of(Root& root, const std::string& path);
/// Packages of enabled repositories that bring a path, as "lampdesk 6.0.2-1", newest first of each name, and why some
/// could not be asked. Fetches indexes of paths that the cache does not have, and keeps them there where this user may.
struct Offering {
  std::vector<PackageId> packages;
  std::vector<std::string> unsearched;
};
Offering offered_with(Root& root, const std::string& path);
using state::kCandidates;
/// Whose program made it, if one did; or the link to a candidate.
std::optional<state::Generated> maker_of(Root& root, const std::string& path);

using plan::TreeLine;
/// What a package requires: of one that is not installed, in the set that installing it would lead to. `depth`: levels,
/// 0 for all.
std::variant<std::vector<TreeLine>, Refused> needs(Root& root, const Spec& spec, std::size_t depth);
/// What requires an installed package. Throws Error{Refused} for one that is not installed.
std::vector<TreeLine> needed_by(Root& root, const Spec& spec, std::size_t depth);

/// Why a package is installed; or, of one that is not, what stands against it, or what installing it would bring.
struct Why {
  PackageId id{};
  bool installed = false;
  std::vector<TreeLine> chain{};  // from a wanted one; none: nothing wanted needs it any more
  std::variant<std::monostate, std::unique_ptr<Proposal>, Refused> otherwise{};
};
Why why(Root& root, const Spec& spec);

/// What programs of packages made, by path.
struct MadeFile {
  std::string path, package, program;
};
std::vector<MadeFile> made_files(Root& root);

/// Packages that are shelved, by name.
std::vector<state::StatePackage> shelved(Root& root);

}  // namespace hambrel::operations
