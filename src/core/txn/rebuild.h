// A state that was lost, made anew: what was installed out of the ledger's copy or an export of it, manifests and lists
// of files out of the packages' own tables of contents.
//
//   L1 the ledger is afterwards what it was, entry by entry with its digests, as far as the copy reaches; the
//   rebuilding
//      is its next entry
//   L2 a package whose file is nowhere is not among what is installed: its files stay where they are, and it is named
//   L3 no file of a package is touched. What the attic and the checkpoints hold can't be found without the state that
//      was lost: they are put aside whole, as attic-before-N and checkpoints-before-N
//   L4 the old state is put aside, too, and only when the new one is complete and on the disk
#pragma once

#include <set>
#include <string>
#include <vector>

#include "txn/ledger_copy.h"
#include "txn/transaction.h"

namespace hambrel::txn {

struct Rebuilding {
  struct Found {
    state::StatePackage package;  // as it was installed, or shelved
    std::string from;             // "cache", a repository, or the package file that was given; empty: nowhere (L2)
  };
  std::vector<Found> installed;              // by name
  std::size_t versions = 0, known = 0;       // that the ledger speaks of; of which the files are known again
  std::vector<state::LedgerRecord> history;  // with manifests and files filled in
  std::set<std::string> unknown;             // versions whose files are not known, by key_of()
};

/// Name, version and architecture in one text.
std::string key_of(const Package& package);

/// Asks `file_of` for every version that the history speaks of.
Rebuilding plan_rebuilding(History history, const FileOf& file_of);

/// Does it, beside the state that is lost, then puts it in its place. Returns the number in the ledger.
state::TxnId rebuild(os::FileSystem& root, const Rebuilding& planned, const Account& account, std::int64_t now);

}  // namespace hambrel::txn
