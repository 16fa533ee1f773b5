// What removing installed packages would free, reckoned before anybody asks for it.
#pragma once

#include <vector>

#include "model/universe.h"

namespace hambrel::plan {

struct Freed {
  std::vector<PackageId> packages;  // the named ones, and pulled-in ones that nothing needs then, each once
  ByteCount bytes = 0;              // of their installed files
  std::vector<PackageId> stand_on;  // installed packages that need them, so that they can't go alone
};

/// Of removing all of `ids` together, which are installed. `idle`: what nothing needs already (solve::unneeded_of).
Freed freed_by(const Universe& universe, const std::vector<PackageId>& ids, const std::vector<PackageId>& idle);

/// Of removing one installed package alone.
struct FreedAlone {
  std::size_t needed_by = 0;  // so many stand on it; then it can't go alone, and `bytes` is 0
  ByteCount bytes = 0;        // as freed_by() has it
};
/// Of each installed package, in the order of Universe::installed(): the same as freed_by() of each, but all at once.
/// What goes along with a package is what it dominates in the graph of what keeps what. Source: Cooper, Harvey,
/// Kennedy: A Simple, Fast Dominance Algorithm, 2001.
std::vector<FreedAlone> freed_by_each(const Universe& universe);

}  // namespace hambrel::plan
