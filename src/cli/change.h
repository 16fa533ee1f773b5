// Changes that are solved for: one way for all of them, from the request to the ledger.
#pragma once

#include "cli/session.h"
#include "plan/plan.h"

namespace hambrel::cli {

/// What every changing command does before it looks at anything: may it ask, the lock, recovery.
void begin_change(Session& session, const Arguments& arguments);

/// A request with the options that every one of these commands reads.
solve::Request start_request(Session& session, const Arguments& arguments);

/// Solved, planned, shown, agreed to, carried out, told; or refused, with remedies. Returns the exit code. `hold`: for
/// what a downgrade names.
int carry_out_request(Session& session, const Arguments& arguments, const std::string& kind,
                      const solve::Request& request, const std::optional<Hold>& hold = {});

/// Hold, Release, Want and Unwant of installed packages: nothing has to be solved for these.
int carry_out_mark(Session& session, const Arguments& arguments, plan::Action action, const solve::Names& names,
                   std::int64_t hold_until);

}  // namespace hambrel::cli
