// Why an upgrade leaves something behind: what the administrator decided, or what nobody offers, that has to give way
// for it. Asked of the clauses of the upgrade as they were before anything was optimised.
//
// A root is a hold, a name that was to be left alone, a wanted package, or a requirement that nothing on offer meets.
// Invariant: with its roots out of the way, and all others standing, what was left behind can be installed; that was
// proved by a model. Where none has to give way, it is another upgrade that was preferred.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "solve/cdcl.h"
#include "solve/encoding.h"

namespace hambrel::solve {

struct Obstacle {
  std::vector<Cause> roots;           // all of them have to give way
  std::vector<PackageId> instead;     // or these upgrades, which were preferred
  std::optional<PackageId> in_place;  // of the first root: its installed version, if it has to go or change,
  std::optional<RelationId> unmet;    // because this requirement of it is not met any more,
  std::optional<PackageId> against;   // or because of a conflict with this, by the words of one of them,
  bool by_old = false;                // of the installed version,
  std::optional<RelationId> needs;    // or because `against` requires another version
  std::size_t together = 0;  // so many of those left behind come if the roots give way, and nothing else is lost
};

class Obstacles {
 public:
  /// `encoding` has selectors for roots (Encoding::Selectors::Roots) and is not used otherwise any more. `engine` is
  /// its engine before they were settled. The universe has to outlive this.
  Obstacles(std::shared_ptr<const Encoding> encoding, Cdcl engine);

  /// For each of `left_behind`, versions that did not become part of `chosen`. Nothing where no reason was found within
  /// the budget, or where a version can't be installed in any case.
  std::vector<std::optional<Obstacle>> explain(const std::vector<PackageId>& left_behind,
                                               const std::vector<PackageId>& chosen);

 private:
  class Search;
  std::shared_ptr<const Encoding> encoding_;
  Cdcl engine_;
};

}  // namespace hambrel::solve
