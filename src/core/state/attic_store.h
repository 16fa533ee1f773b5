// The attics: which transactions can be undone from files that are kept.
#pragma once

#include <optional>
#include <vector>

#include "state/records.h"
#include "state/store.h"

namespace hambrel::state {

class AtticStore : protected Store {
 public:
  std::vector<Attic> attics() const;  // oldest first
  /// The transaction by which the attic that holds the files of `id` was given up, if it was.
  std::optional<TxnId> given_up(TxnId id) const;
  /// What counting their files gave.
  void remember_sizes(const std::vector<Attic>& attics);

 protected:
  using Store::Store;
  friend class State;
};

}  // namespace hambrel::state
