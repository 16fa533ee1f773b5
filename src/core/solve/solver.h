// From a request to the best set of packages that meets it, or to the reason why there is none.
//
// Pure and deterministic: no disk, no clock; the same input gives the same answer, and that answer is the one and only
// optimum (docs/solver.md): levels of criteria first, then the order of names and versions.
// Complete: a refusal means that no set meets the hard constraints
//   H1 at most one version of a name and architecture, or as many as `parallel` allows
//   H2 every requirement of a chosen package has a chosen provider of a fitting architecture
//   H3 no chosen package conflicts with another (replaces counts as a conflict with what it replaces)
//   H4 what was asked for is chosen, what was to go is not, what was to be left alone or is held stays in its version
//   H5 a wanted package stays, in some version or as something that replaces it, unless the request names it
//   H6 only what is installed, offered by a followed channel, or named by the request may be chosen
// Where the budget of steps runs out, the answer says so: best found, not proved; or not decided.
#pragma once

#include <set>
#include <variant>

#include "solve/request.h"

namespace hambrel::solve {

std::variant<Selection, Refusal> solve(const Universe& universe, const Request& request);

/// Packages of a set that nothing wanted in it needs, in the order of lists. Recommended and suggested ones count as
/// needed, unless it is `strict`.
std::vector<PackageId> unneeded(const Universe& universe, const std::vector<PackageId>& set,
                                const std::set<PackageId>& wanted, bool strict = false);
/// The same of packages that are installed, where what is wanted is what is marked so.
std::vector<PackageId> unneeded_of(const Universe& universe, const std::vector<PackageId>& installed);

}  // namespace hambrel::solve
