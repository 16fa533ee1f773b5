// Looking at the ledger: what was done, by whom, why, and what of it can still be undone.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "operations/root.h"
#include "plan/plan.h"
#include "txn/retention.h"

namespace hambrel::operations {

using state::LedgerEntry;
using state::PackageChange;
using state::StatePackage;
using state::TxnId;
using txn::StandingAttic;

/// What an entry can be of, as the ledger names it.
const std::vector<std::string>& ledger_kinds();

/// Only entries for which all of it holds; what is empty lets everything pass.
struct LedgerFilter {
  std::string package{};  // a name or a pattern, of which something changed
  std::string kind{}, user{};
  std::int64_t since = INT64_MIN, until = INT64_MAX;  // when it began, seconds; `until` itself is not meant
  bool operator==(const LedgerFilter&) const = default;
};

struct LedgerLine {
  LedgerEntry entry;
  std::vector<PackageChange> changes;
  plan::Plan plan;                          // where no package changed: what it was about
  std::optional<TxnId> undoes{}, redoes{};  // the transaction that it took back, or did again
  std::optional<TxnId> undone_by{};         // and that was not undone itself
  bool for_good = false;                    // done, and the attic has given up what it had kept
};
/// The newest that pass, at most so many. Throws Error{Usage} for a kind that there is not.
std::vector<LedgerLine> ledger(Root& root, const LedgerFilter& filter, std::uint64_t most);
/// The newest as they are, for those to whom a look at what changed is too slow.
std::vector<LedgerEntry> ledger_entries(Root& root, std::uint64_t most);

struct ChangedPackage {
  LedgerEntry entry;
  PackageChange change;
};
/// Packages that came, went, or changed their version: those that changed last, at most so many.
/// Who vouched for an installed package when it came; nothing where the ledger does not tell.
std::optional<plan::Voucher> voucher_of(Root& root, PackageId installed);
std::vector<ChangedPackage> changed_packages(Root& root, const LedgerFilter& filter, std::uint64_t most);

struct LedgerDetail {
  LedgerEntry entry;
  plan::Plan plan;
  std::vector<PackageChange> changes;
  std::vector<state::RunRecord> runs{};  // programs of packages
  std::string log{};                     // the file that has all they printed; empty: the records do
  std::optional<TxnId> undone_by{}, given_up_by{};
  std::optional<StandingAttic> attic{};
};
/// Throws Error{NotFound} for a number that the ledger does not have.
LedgerDetail ledger_detail(Root& root, TxnId id);

/// The whole ledger, oldest first, a line of JSON each, so that its chain can be followed elsewhere.
void export_ledger(Root& root, const std::function<void(std::string_view)>& line);

/// Was nothing changed in this root yet?
bool is_ledger_empty(Root& root);

/// Which transaction is meant by a number, or by "last": the newest one; of `done` ones only those count that were.
/// Throws Error{Usage} for anything else, Error{NotFound} where there is none yet.
TxnId transaction_named(Root& root, const std::string& text, bool done);

}  // namespace hambrel::operations
