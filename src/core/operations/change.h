// Changes that are solved for: install, remove, upgrade, change, downgrade, unshelve, and the marks of packages.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "operations/proposal.h"
#include "plan/remedies.h"
#include "solve/solver.h"

namespace hambrel::operations {

/// Hold, Release, Want and Unwant of installed packages.
struct MarkRequest {
  plan::Action action = plan::Action::Want;
  solve::Names names;
  std::optional<std::int64_t> until{};  // of a hold, seconds; what is not said of one that stands already stays
  std::optional<std::string> reason{};
  End end = End::Switch;
};
/// What is wanted of packages; what is solved for is in `solve`.
struct ChangeRequest {
  std::string kind;  // as the ledger names it
  solve::Request solve;
  std::optional<unsigned> seconds{};      // that finding a plan may take, about; else as the settings say
  std::optional<Hold> hold{};             // for what a downgrade names
  bool purge = false;                     // edited configuration of what is removed goes, too,
  std::vector<std::string> purge_also{};  // and what these, which may be gone already, have left behind
  bool strict = false;                    // nothing of nobody's is set aside
  bool look_at_files = true;              // false: no more than a list of packages
  bool weigh_strays = true;               // say what letting go of what nobody offers would bring
  std::vector<MarkRequest> marks{};       // together with the rest
  std::vector<state::FollowChange> follows{};
  std::vector<state::PickChange> picks{};
  std::vector<state::FollowChange> may_follow{};  // if whoever agrees to the rest says so
  ConfigTerms configuration{};
  ActingTerms acting{};
  End end = End::Switch;
  std::string enables{};  // a repository that a remedy needs: it is enabled when the change is performed
};

/// What a proposed change of packages was made from, and what was decided.
struct ExactRequest {
  ChangeRequest request;
  Decisions decisions;
};

/// It can't be met.
struct Refused {
  solve::Refusal refusal;
  ChangeRequest request;
};

/// The plan, checked; or why there is none. `measured`: what the search cost, for whoever is curious. Throws
/// Error{Undecided} where the search ran out of its budget, Error{Refused} for what files stand in the way.
struct [[nodiscard]] Proposed {
  std::variant<std::unique_ptr<Proposal>, Refused> result;
  std::string measured;
};
[[nodiscard]] Proposed propose(Root& root, ChangeRequest request);

/// The set that would be chosen, or why there is none. As propose() otherwise; nothing of files is looked at.
std::variant<std::vector<PackageId>, Refused> choose(Root& root, ChangeRequest request);

/// Ways out, each tried. Takes a moment.
plan::WaysOut remedies_for(Root& root, const Refused& refused);
/// The request that a remedy stands for. The root sees its repository as enabled from then on.
ChangeRequest take(Root& root, const Refused& refused, const plan::Remedy& remedy);

[[nodiscard]] std::unique_ptr<Proposal> propose(Root& root, const MarkRequest& request);

}  // namespace hambrel::operations
