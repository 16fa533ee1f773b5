// What is built from source before it is installed, and the options of a recipe.
#pragma once

#include <vector>

#include "build/from_source.h"
#include "cli/session.h"

namespace hambrel::cli {

bool has_to_be_built(const build::SourceBuild& one);
/// Those whose option is on, or off.
std::vector<std::string> names_in(const build::Switches& switches, bool on);

void show(const Session& session, const std::vector<build::SourceBuild>& builds);
/// The same for programs: a document for each.
void show_documents(const Session& session, const std::vector<build::SourceBuild>& builds);
/// Its options, and which are on here.
void show(const Session& session, const build::Recipe& recipe, const build::Switches& now);

}  // namespace hambrel::cli
