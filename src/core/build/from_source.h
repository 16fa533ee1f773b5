// Installing what is built first: which recipes of repositories have to be built, in which order, with which options.
//
// What was built is kept in the workshop (made/): the next build may need it, and it is not built again while recipe
// and options are the same.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "build/building.h"
#include "build/collection.h"

namespace hambrel::build {

/// Options that were turned on or off for a recipe on this system, in etc/hambrel/options.toml.
std::map<std::string, bool> remembered_options(operations::Root& root, const std::string& recipe);
/// Adds to them. Throws what writing throws.
void remember_options(operations::Root& root, const std::string& recipe, const std::map<std::string, bool>& options);
/// As the recipe has them, but for what is remembered. Of options that it does not have any more nothing counts.
Switches switches_here(operations::Root& root, const Recipe& recipe);

struct SourceBuild {
  Buildable wanted;
  std::string folder;  // of the host
  Switches switches{};
  std::string why;                          // "asked for", "harbour-bell needs libbell-headers"
  std::string package;                      // that is asked for or needed
  bool is_made = false;                     // there already, of just this recipe and these options
  bool is_forced = false;                   // built again all the same
  std::optional<std::int64_t> last_time{};  // milliseconds that it took last time
};

/// In the order in which they are built. Throws Error{NotFound} for a name without a recipe, Error{Refused} where
/// recipes need each other in a circle.
std::vector<SourceBuild> builds_for(operations::Root& root, Workshop& workshop, const std::vector<std::string>& names);

/// Packages that were built here and are to be built again, with what that needs: their recipe has changed, or the
/// options that were chosen, or a library that they need is not offered any more. `names`: only these; empty: all.
std::vector<SourceBuild> rebuilds_for(operations::Root& root, Workshop& workshop,
                                      const std::vector<std::string>& names);
/// What the version has at its end in addition, so that it is not one that is there: "+b2"; mostly nothing.
std::string build_number(Workshop& workshop, const SourceBuild& build);

/// Where the package files lie that are made for this system, on the host.
std::string made_directory(Workshop& workshop);
/// All of them.
std::vector<std::string> made_files(Workshop& workshop);
/// Those that a later build of the same package has taken the place of, and that are not installed. None while a build
/// is under way.
std::vector<LeftByBuilds::Item> earlier_made(operations::Root& root, Workshop& workshop);
/// Of each package one: as these builds have it, else the newest.
std::vector<std::string> candidates_for(Workshop& workshop, const std::vector<SourceBuild>& builds);
/// That of a package of a build which was done.
std::string made_file(Workshop& workshop, const SourceBuild& build);
std::string made_version(Workshop& workshop, const SourceBuild& build);
void note_time(Workshop& workshop, const std::string& recipe, std::int64_t milliseconds);

}  // namespace hambrel::build
