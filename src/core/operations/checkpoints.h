// Checkpoints: making, listing and dropping them.
#pragma once

#include <string>
#include <vector>

#include "operations/root.h"

namespace hambrel::operations {

using state::Checkpoint;

struct KeptCheckpoint {
  Checkpoint checkpoint;
  ByteCount attic = 0;  // bytes that the attic keeps because of it: everything since
};
/// Oldest first.
std::vector<KeptCheckpoint> checkpoints(Root& root);
Checkpoint make_checkpoint(ChangingRoot& root, const std::string& name, const std::string& reason);
void drop_checkpoint(ChangingRoot& root, const std::string& name);

}  // namespace hambrel::operations
