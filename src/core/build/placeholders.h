// What stands for something in the steps of a recipe: {prefix} {stage} {jobs} {arch}, {option.NAME}, {option.NAME?TEXT}
// and {option.NAME?TEXT:OTHERWISE}. In command lines every other {...} is a mistake; in scripts it belongs to the
// shell.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "build/recipe.h"

namespace hambrel::build {

struct Values {
  std::string prefix = "/usr", stage, arch;
  unsigned jobs = 1;
  Switches switches{};
};

/// Throws Error{Invalid} that names the line, for what can't be put in.
void check_placeholders(const Recipe& recipe);

std::string put_in(std::string_view script, const Values& values);
/// A word that is nothing but options, none of them on, is left out.
std::vector<std::string> put_in(const std::vector<std::string>& words, const Values& values);

}  // namespace hambrel::build
