// Packages that act: which programs of packages a change asks for, and on what terms they run.
#pragma once

#include <map>
#include <set>
#include <string>
#include <vector>

#include "operations/root.h"
#include "rehearsal/runs.h"
#include "txn/transaction.h"

namespace hambrel::operations {

/// Answers to questions of packages, by package and key.
struct GivenAnswer {
  std::string text;
  std::string at{};  // "file:line"; empty: it was asked for
};
using GivenAnswers = std::map<std::pair<std::string, std::string>, GivenAnswer>;

/// What a request says of them.
struct ActingTerms {
  bool without_hooks = false;  // none is run; what is due is recorded
  bool may_ask = false;        // questions of packages stay open; else each needs an answer
  GivenAnswers answers{};
  bool prepares = false;   // nothing is switched to yet
  solve::Names running{};  // services that are to run, whatever they do now
};

/// Links to candidates that have none left after a change, with the directories that were made for them.
std::vector<std::string> links_that_go(Root& root, const std::vector<rehearsal::Party>& parties,
                                       const std::set<std::int64_t>& leaving);

/// Adds the programs that are due to what is planned, and to its plan. `parties`: the packages that change, in the
/// order of their steps; `leaving`: rows of those that are not there afterwards.
void add_runs(Root& root, txn::Planned& planned, const std::vector<rehearsal::Party>& parties,
              const std::set<std::int64_t>& leaving, const ActingTerms& terms);
/// The same for what was planned by moves and changes of packages.
void add_runs(Root& root, txn::Planned& planned, const ActingTerms& terms);

}  // namespace hambrel::operations
