// What a change asks for, and the two answers: a selection or a refusal. Plain values.
#pragma once

#include <set>
#include <string>
#include <vector>

#include "model/universe.h"

namespace hambrel::solve {

/// One thing to be installed: any of the candidates will do, the first ones are preferred.
struct Target {
  std::string text;  // as it was asked for
  std::vector<PackageId> candidates;
};

struct Request {
  std::vector<Target> install;
  std::set<std::string> remove;  // names of installed packages
  bool upgrade_all = false;
  std::set<std::string> upgrade;   // names of installed packages
  std::set<std::string> except;    // names that an upgrade leaves alone
  std::set<std::string> channels;  // channels that this request may take from, beside the followed ones
  bool recommended = true;         // also take what new packages recommend
  bool drop_unneeded = false;      // also remove pulled-in packages that nothing wanted needs in the end
};

/// The set of packages that are to be installed in the end, ascending.
struct Selection {
  std::vector<PackageId> chosen;
  std::uint64_t conflicts = 0;  // how hard the search was
};

/// One link of the chain of a refusal.
struct Cause {
  enum class Kind { Asked, AskedToRemove, LeftAlone, Wanted, Requires, Conflicts, Replaces };
  Kind kind = Kind::Asked;
  std::string name;                 // the subject: a package name, or what was asked for
  std::vector<PackageId> packages;  // the versions of it that the statement is about
  std::string relation;             // of Requires: the relation; of Conflicts and Replaces: the constraint
  std::vector<PackageId> others;    // what could meet a requirement (none: nobody offers it), or stands in conflict

  std::string text(const Universe& universe) const;  // one sentence without a full stop
};

struct Refusal {
  std::string what;           // what can't be done, one clause
  std::vector<Cause> causes;  // a minimal set: without any one of them the request could be met
};

}  // namespace hambrel::solve
