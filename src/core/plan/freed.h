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

}  // namespace hambrel::plan
