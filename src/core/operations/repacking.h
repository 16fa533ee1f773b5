// The package file of an installed package, made again from what lies in the root.
#pragma once

#include <string>
#include <vector>

#include "operations/publishing.h"
#include "operations/root.h"

namespace hambrel::operations {

struct Repacked {
  Packed packed;
  bool is_original = false;          // byte for byte the file that was installed
  std::vector<std::string> changed;  // paths that differ from what was installed; then the version says "+modified"
};

/// `name`: a spec of one installed package. Of the request: where to write it, how, and keys to sign it with. What the
/// cache has is copied; else the files of the root are packed. The file appears whole or not at all.
/// Throws Error{Refused} where it is not installed, or is a group.
Repacked repack(Root& root, const std::string& name, const PackRequest& request, Observer& observer);

}  // namespace hambrel::operations
