// The ledger: its lines, the packages that changed, one transaction in full.
#pragma once

#include <vector>

#include "cli/session.h"
#include "operations/activating.h"
#include "operations/ledger.h"
#include "operations/tidying.h"

namespace hambrel::cli {

/// `prepared`: what waits for its switch stands before all.
void show(const Session& session, const std::vector<operations::LedgerLine>& lines,
          const std::optional<operations::PreparedChange>& prepared, bool ledger_is_empty);
void show(const Session& session, const std::vector<operations::ChangedPackage>& packages);
void show(const Session& session, const operations::LedgerDetail& detail);

/// The size of an attic, for people.
std::string size_of(const operations::StandingAttic& attic);

}  // namespace hambrel::cli
