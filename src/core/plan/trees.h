// Who needs whom, as lines to be shown: trees downwards and upwards, and the chain that keeps a package installed.
//
// All walk a set of packages (what is installed, or what would be) without recursion; each package is unfolded once,
// later occurrences are marked as folded, so that cycles end and the size is bounded by the relations of the set.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>
#include <vector>

#include "model/universe.h"

namespace hambrel::plan {

struct TreeLine {
  std::size_t depth = 0;
  PackageId id{};
  std::string relation;  // how it hangs on the line above: "requires libbuoy >= 2"
  bool folded = false;   // unfolded further up already
};

/// Of several relations that lead to the same package, a person names the one with the smallest rank: one without a
/// bound, then one with a lower bound, then any other.
int relation_rank(const Universe& universe, RelationId relation);

/// What `top` requires within the set, to `most_depth` levels (0: all). The first line is `top` itself.
std::vector<TreeLine> needs_tree(const Universe& universe, const std::vector<PackageId>& set, PackageId top,
                                 std::size_t most_depth);
/// What requires `top` within the set.
std::vector<TreeLine> needed_by_tree(const Universe& universe, const std::vector<PackageId>& set, PackageId top,
                                     std::size_t most_depth);
/// The shortest chain from an installed wanted package to `id`: the wanted one first, `id` last. By requirements if
/// there is such a chain, else with recommendations and suggestions. Only `id` itself if it is wanted; empty if nothing
/// leads there.
std::vector<TreeLine> why_installed(const Universe& universe, PackageId id);

}  // namespace hambrel::plan
