// What a change asks for, and the two answers: a selection or a refusal. Plain values.
#pragma once

#include <memory>
#include <set>
#include <string>
#include <vector>

#include "model/universe.h"

namespace hambrel::solve {

using Names = std::set<std::string, std::less<>>;

/// One thing to be installed: any of the candidates will do, the first ones are preferred.
struct Target {
  std::string text;  // as it was asked for
  std::vector<PackageId> candidates;
};

/// Steps of the search that take about a second on an ordinary machine of 2024.
inline constexpr std::uint64_t kStepsPerSecond = 40'000'000;

struct Request {
  std::vector<Target> install;
  Names remove;  // names of installed packages
  bool upgrade_all = false;
  bool drop_strays = false;      // wanted packages that no repository offers any more may go for the sake of an upgrade
  Names upgrade;                 // names of installed packages
  Names except;                  // names that an upgrade leaves alone
  Names release;                 // names whose hold does not count this time
  Names allow_essential;         // names of protected packages that may go, or go back to an older version
  Names channels;                // channels that this request may take from, beside the followed ones
  std::string arch;              // remove, upgrade, except and release mean this architecture only; empty: all
  bool recommended = true;       // also take what new packages recommend
  bool drop_unneeded = false;    // also remove pulled-in packages that nothing wanted needs in the end,
  bool strict_unneeded = false;  // even what is only recommended or suggested
  bool changes_installed = false;  // it is known that it can't be met with all else left as it is
  std::uint64_t budget = 5 * kStepsPerSecond;

  /// Does one of the sets above mean this package?
  bool means(const Names& names, const Universe& universe, PackageId id) const {
    return !names.empty() && names.contains(universe.name(id)) && (arch.empty() || universe.architecture(id) == arch);
  }
  bool upgrades(const Universe& universe, PackageId id) const {
    return (upgrade_all || means(upgrade, universe, id)) && !means(except, universe, id);
  }
  /// Must a protected package stay, in this version or a newer one?
  bool guards(const Universe& universe, PackageId id) const {
    return universe.is_protected(id) && !means(allow_essential, universe, id);
  }
  bool upgrades_anything() const { return upgrade_all || !upgrade.empty(); }
  /// And nothing else?
  bool is_upgrade() const { return upgrade_all || (!upgrade.empty() && install.empty() && remove.empty()); }
};

/// What a selection is measured by; docs/solver.md says what each one counts.
enum class Level {
  StraysDropped,
  NotNewest,
  Removed,
  Downgraded,
  AskedLag,
  Touched,
  RecommendedMissing,
  VersionLag,
  RepositoryRank,
  NewPackages,
  LaterAlternatives,
  Download,
};
std::string_view text_of(Level level);

struct LevelValue {
  Level level;
  std::uint64_t value = 0;
  bool proved = true;  // nothing better exists, given the levels before
};

class Obstacles;

/// The set of packages that are to be installed in the end, in the order of lists.
struct [[nodiscard]] Selection {
  std::vector<PackageId> chosen;
  std::vector<LevelValue> levels;
  std::uint64_t conflicts = 0, steps = 0;  // how hard the search was
  bool proved = true;                      // every level was
  // Of an upgrade: for finding why something is left behind. Of use as long as the universe and the request are there.
  std::shared_ptr<Obstacles> obstacles{};
};

/// One link of the chain of a refusal.
struct Cause {
  enum class Kind { Asked, AskedToRemove, LeftAlone, Held, Wanted, Essential, Requires, Conflicts, Replaces };
  Kind kind = Kind::Asked;
  std::string name;                 // the subject: a package name, or what was asked for
  std::vector<PackageId> packages;  // the versions of it that the statement is about
  std::string relation;             // of Requires: the relation; of Conflicts and Replaces: the constraint
  std::vector<PackageId> others;    // what could meet a requirement (none: nobody offers it), or stands in conflict

  std::string text(const Universe& universe) const;  // one sentence without a full stop
};

class Explainer;

struct [[nodiscard]] Refusal {
  std::string what;           // what can't be done, one clause
  std::vector<Cause> causes;  // a minimal set: without any one of them the request could be met
  bool decided = true;        // false: the budget ran out before there was an answer
  // For looking for ways out without beginning anew; of use as long as the universe and the request are there.
  std::shared_ptr<Explainer> explainer;

  /// The causes as sentences, to be read: where a pattern made many alike, one sentence is about all of them.
  std::vector<std::string> sentences(const Universe& universe) const;
};

}  // namespace hambrel::solve
