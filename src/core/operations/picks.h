// pick: which of several candidates serves a path.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "operations/proposal.h"

namespace hambrel::operations {

struct PickCandidate {
  std::string path, file, package;  // path and file: relative to the root
  std::int64_t rank = 0;
  bool serves = false;
  bool picked = false;  // by the administrator
};

/// All, by path and rank. Of a path that is given only those; Error{NotFound} where it has none.
std::vector<PickCandidate> candidates(Root& root, const std::string& path = {});

struct PickRequest {
  std::string path;    // relative to the root
  std::string choice;  // a file, the name of a package, or "auto": whatever has the highest rank
  End end = End::Switch;
};
/// Throws Error{NotFound} for a path without candidates or a choice that is none of them.
[[nodiscard]] std::unique_ptr<Proposal> propose(Root& root, const PickRequest& request);

}  // namespace hambrel::operations
