// The ledger as text: a line of canonical JSON for each transaction. `ledger export` writes it, copies of the ledger
// hold it, and a state that was lost is made anew out of it (txn/rebuild.h).
#pragma once

#include <string_view>
#include <vector>

#include "state/records.h"

namespace hambrel::state {

/// An entry read back. Of packages it knows name, version, architecture and what the state had noted; no manifest, no
/// files, no rows.
struct LedgerRecord {
  LedgerEntry entry;
  std::vector<PackageChange> changes;
};

/// `changes`: as State::changes_told() gives them.
std::string ledger_text(const LedgerEntry& entry, std::string_view changes);
/// Throws Error{Untrusted} naming `where` if the text is none, or is not what its digest was made of.
LedgerRecord ledger_record(std::string_view text, const std::string& where);

}  // namespace hambrel::state
