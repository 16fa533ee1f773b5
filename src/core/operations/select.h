// From what is named (SPEC) to packages of the universe.
#pragma once

#include <string>
#include <vector>

#include "model/spec.h"
#include "operations/root.h"
#include "solve/request.h"

namespace hambrel::operations {

std::vector<Spec> parse_specs(const std::vector<std::string>& words);
/// The packages that a spec stands for among the candidates, best first. Throws Error{Refused} with suggestions when
/// there is none. A path that is not installed is looked for in the indexes of paths, which may be fetched for it.
std::vector<PackageId> select(Root& root, const Spec& spec);
/// Names of installed packages that a spec stands for. Throws Error{Refused} when there is none.
solve::Names select_installed(Root& root, const Spec& spec);

}  // namespace hambrel::operations
