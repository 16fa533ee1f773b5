// A plan in a file: what a command would do, decisions included, to be carried out later exactly so.
//
// Invariants: it is carried out only on the root that it was made for, in the state that it was made for (the ledger's
// last entry), with the very package files (by digest); what else it would do there is compared with what was saved.
// The file is JSON with a digest over its content, mode 0600. Secret answers and passwords of URLs are not in it;
// merged configuration that was decided on is.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "operations/change.h"

namespace hambrel::operations {

/// The command that a plan is of: its name, then its words and options.
using CommandWords = std::vector<std::string>;

struct SavedPlan {
  std::string file;      // as it was asked for
  CommandWords command;  // what would make the plan anew
  std::string made;      // when, UTC
  plan::Plan plan;
  // Of a change of packages: all that is to be known to carry it out without a search. Else the command is run again,
  // and what it would do is compared.
  bool is_exact = false;
  ChangeRequest request{};
  Decisions decisions{};
  std::vector<Digest> digests{};     // by step: of the package file that comes; none comes: zero
  std::vector<std::string> files{};  // of the host: package files that were given
  state::TxnId last{};               // of the ledger; 0: nothing was changed yet
  Digest chain{};                    // of its last entry
};

/// Writes the plan of a proposal without open questions; whoever else may read the file is not asked: mode 0600. Throws
/// Error{Io}.
void save_plan(Root& root, const Proposal& proposal, const CommandWords& command, const std::string& file);
/// Throws Error{NotFound}, Error{Invalid} for what is none, Error{Untrusted} for one that was changed.
SavedPlan load_plan(const std::string& file);

/// What has happened to the root since; empty: nothing. One sentence.
std::string moved_since(Root& root, const SavedPlan& saved);
/// In what another plan differs from the saved one; empty: it does the same. One sentence.
std::string difference(const SavedPlan& saved, const plan::Plan& plan);
/// An exact one, as a proposal. Throws Error{Refused} for what has moved, with how to plan anew.
std::unique_ptr<Proposal> propose(Root& root, const SavedPlan& saved, const ActingTerms& acting, End end);
/// Throws Error{Refused} where there is something to be told.
void require_same(const SavedPlan& saved, const std::string& moved);

}  // namespace hambrel::operations
