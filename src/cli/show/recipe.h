// Recipes and builds as text and as JSON.
#pragma once

#include <nlohmann/json_fwd.hpp>

#include "build/building.h"
#include "build/collection.h"
#include "cli/session.h"

namespace hambrel::cli {

nlohmann::json to_json(const build::BuildPlan& plan);
void show(Session& session, const build::BuildPlan& plan);
void show(Session& session, const build::Recipe& recipe, const build::BuildFailure& failure);
/// `with_place`: package files with the directory that they are in.
void show(Session& session, const build::BuildOutcome& outcome, bool with_place = true);
void show(Session& session, const build::RecipeFolder& folder);
/// What the list of a repository says of a recipe.
nlohmann::json to_json(const build::Buildable& recipe);
void show(Session& session, const build::Buildable& recipe);
/// What is to be read of it before it is built; `what`: its heading.
void show(const Session& session, const std::string& what, const build::Review& review, bool paged);
/// One line of it, below a package that could be installed as it is.
void tell_of(Session& session, const build::Buildable& recipe);

}  // namespace hambrel::cli
