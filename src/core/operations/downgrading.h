// downgrade: which older versions of an installed package are available, and from where.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "operations/change.h"

namespace hambrel::operations {

struct OlderVersion {
  PackageId id{};
  std::string where;      // "attic", "cache", or the repositories
  ByteCount fetch = 0;    // bytes; 0: at hand
  std::int64_t here = 0;  // when it was installed here last, seconds; 0: never
};

struct OlderVersions {
  PackageId installed{};
  std::vector<OlderVersion> all;  // that are meant, newest first
  bool named = false;             // the spec names the version: the first one is it
};
/// Of the one installed package that the spec names, with a version or without. The root sees what was kept from then
/// on. Throws Error{Usage} for any other spec, Error{Refused} where no such version is to be had.
OlderVersions older_versions(Root& root, const Spec& spec);

/// The request that installs it. `hold`: what keeps it in this version from then on.
ChangeRequest downgrade_to(Root& root, PackageId version, ChangeRequest request, std::optional<Hold> hold);

}  // namespace hambrel::operations
