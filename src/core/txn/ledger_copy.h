// A copy of the ledger beside the state, a file for each transaction: kLedgerCopy/N.json, as `ledger export` tells it.
//
// It is there for the day on which the state is lost (rebuild.h). It follows the state and is never asked while that is
// sound; what the power took of it is written again by the next start.
#pragma once

#include <string>
#include <vector>

#include "os/file_system.h"
#include "state/ledger_text.h"
#include "state/state.h"

namespace hambrel::txn {

inline constexpr const char* kLedgerCopy = "var/lib/hambrel/ledger";

/// Writes what is missing at the end of the copy.
void copy_ledger(os::FileSystem& root, const state::LedgerStore& state);

/// Writes all of it anew.
void renew_copy(os::FileSystem& root, const state::LedgerStore& state);

/// What is wrong with the copy, or differs from the state.
std::vector<std::string> copy_problems(os::FileReader& root, const state::LedgerStore& state);

struct History {
  std::vector<state::LedgerRecord> records;  // an unbroken chain, from the first transaction on
  std::string broken;                        // why it ends where it ends, if there is more; a sentence
};
/// The copy of a root, or an export of its ledger, as a whole text.
History read_copy(os::FileReader& root);
History read_export(std::string_view text, const std::string& where);

}  // namespace hambrel::txn
