// From a request to the set of packages that meets it, or to the reason why there is none.
//
// Pure and deterministic: no disk, no clock; the same input gives the same answer.
// Complete: a refusal means that no set meets the hard constraints (docs/solver.md):
//   H1 at most one version of a name            H2 every requirement of a chosen package has a chosen provider
//   H3 no chosen package conflicts with another (replaces counts as a conflict with what it replaces)
//   H4 what was asked for is chosen, what was to go is not, what was to be left alone stays in its version
//   H5 a wanted package stays, in some version or as something that replaces it, unless the request names it
//   H6 only what is installed, offered by a followed channel, or named by the request may be chosen
// Among the sets that are left, preferences are tried one after another, each kept if it can be (never traded for a
// later one): see preferences in solver.cpp. That is locally best, not proved to be the best.
#pragma once

#include <variant>

#include "solve/request.h"

namespace hambrel::solve {

std::variant<Selection, Refusal> solve(const Universe& universe, const Request& request);

/// Installed packages of a set that nothing wanted in it needs any more (through requires, recommends or suggests).
/// `wanted` says of each package of the set whether it is wanted for its own sake.
std::vector<PackageId> unneeded(const Universe& universe, const std::vector<PackageId>& set,
                                const std::set<PackageId>& wanted);

}  // namespace hambrel::solve
