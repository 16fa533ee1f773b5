// Checkpoints: moments of the ledger with names.
#pragma once

#include <vector>

#include "state/records.h"
#include "state/store.h"

namespace hambrel::state {

class CheckpointStore : protected Store {
 public:
  std::vector<Checkpoint> checkpoints() const;  // oldest first
  void add_checkpoint(const Checkpoint& checkpoint);
  void drop_checkpoint(std::int64_t id);

 protected:
  using Store::Store;
  friend class State;
};

}  // namespace hambrel::state
