// The attic as commands see it: what stands, and the limits that were set.
#pragma once

#include "cli/session.h"
#include "txn/retention.h"

namespace hambrel::cli {

/// As the settings say; without one of age while the clock can't be believed, which is told.
txn::Limits limits_of(Session& session, const state::State& state);

/// Every attic that stands; the state remembers what was counted, where this run changes it.
std::vector<txn::StandingAttic> standing_attics(Session& session, const state::State& state);

/// Its size, for people.
std::string size_of(const txn::StandingAttic& one);

/// `tidy attic`. Returns the exit code.
int tidy_attic(Session& session, const Arguments& arguments);

}  // namespace hambrel::cli
