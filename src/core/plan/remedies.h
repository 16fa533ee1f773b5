// Remedies for a refusal: each one is a request that was solved, with the plan that it leads to.
//
// Never shown untried: a remedy holds the selection that proves it, and that passed the independent check.
#pragma once

#include <string>
#include <vector>

#include "plan/plan.h"
#include "solve/request.h"

namespace hambrel::plan {

struct Remedy {
  enum class Kind { RemoveWanted, LowerVersion, OtherChannel, DropRequest, ReleaseHold, EnableRepository };
  Kind kind = Kind::RemoveWanted;
  std::vector<std::string> subjects;  // names that go; the version taken; the channel; what is dropped; names released
  std::string enable;                 // the repository to be enabled first, or empty
  solve::Request request;
  solve::Selection selection;
  Plan plan;

  /// The command that does it, words quoted for a shell.
  std::string command() const;
  /// "removes gullcam (wanted); installs 3; fetches ...": what it costs, without sizes, which the program prints.
  std::string price() const;
};

/// Remedies; or, where there is none, a clause on what is known.
struct WaysOut {
  std::vector<Remedy> remedies;
  std::string best_known;
};

/// At most `most` remedies for a refused request, cheapest first: fewest wanted packages removed, fewest requests given
/// up, fewest packages removed, fewest downgraded, fewest new ones. Empty when nothing of these kinds helps.
WaysOut remedies_for(const Universe& universe, const solve::Request& request, const solve::Refusal& refusal,
                     std::size_t most = 5);

}  // namespace hambrel::plan
