#include "operations/checkpoints.h"

#include "operations/limits.h"
#include "os/host.h"
#include "txn/checkpoint.h"

namespace hambrel::operations {

std::vector<KeptCheckpoint> checkpoints(Root& root) {
  std::vector<KeptCheckpoint> all;
  if (root.state() == nullptr) return all;
  for (Checkpoint& one : root.state()->checkpoints()) all.push_back({std::move(one), 0});
  if (all.empty()) return all;
  for (const txn::StandingAttic& attic : standing_attics(root))
    for (KeptCheckpoint& one : all)
      if (number(attic.attic.id) > number(one.checkpoint.after)) one.attic += attic.attic.bytes.value_or(0);
  return all;
}

Checkpoint make_checkpoint(ChangingRoot& root, const std::string& name, const std::string& reason) {
  return txn::make_checkpoint(root.files(), root.state_to_change(), name, reason, os::now());
}

void drop_checkpoint(ChangingRoot& root, const std::string& name) {
  txn::drop_checkpoint(root.files(), root.state_to_change(), name);
}

}  // namespace hambrel::operations
