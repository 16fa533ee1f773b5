// What of the disk could be freed, by area.
#pragma once

#include <optional>
#include <vector>

#include "operations/leftovers.h"
#include "operations/tidying.h"

namespace hambrel::operations {

struct FreeableArea {
  enum class Kind { Unneeded, Configs, Cache, Attic, Checkpoints, Prepared };
  Kind kind = Kind::Unneeded;
  std::size_t count = 0;
  ByteCount bytes = 0;                      // what it takes
  ByteCount free = 0;                       // what can be freed of that, at most
  std::size_t leftovers = 0, idle = 0;      // of Configs: files of removed packages, pristine contents of no use
  std::size_t unavailable = 0, rests = 0;   // of Cache: files that no repository offers, that are not whole
  std::optional<state::TxnId> undo_from{};  // of Attic: the oldest transaction that can be taken back
};
/// None in a root in which nothing was changed yet.
std::vector<FreeableArea> freeable(Root& root);

/// Sum of IdlePristine.
ByteCount bytes_of(const IdlePristine& idle);

}  // namespace hambrel::operations
