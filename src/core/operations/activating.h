// What was prepared: looking at it, switching to it, dropping it.
#pragma once

#include <functional>
#include <optional>

#include "operations/proposal.h"

namespace hambrel::operations {

/// A change that waits for its switch.
struct PreparedChange {
  state::Prepared account;
  plan::Plan plan;
};
std::optional<PreparedChange> prepared(Root& root);
/// `booting`: services are left to the start of the system, which goes on behind this.
Outcome activate(ChangingRoot& root, const PreparedChange& one, bool booting, const std::function<bool()>& stop_asked);
void discard(ChangingRoot& root, const PreparedChange& one);
/// With the next start of the system, or not any more.
void activate_at_boot(ChangingRoot& root, const PreparedChange& one, bool at_boot);

}  // namespace hambrel::operations
