// What is installed, or on the shelf, asked about as the ledger names it: thousands of changes among thousands of
// packages.
#pragma once

#include <set>
#include <string>
#include <utility>
#include <vector>

#include "state/state.h"

namespace hambrel::txn {

class PresentPackages {
 public:
  explicit PresentPackages(const std::vector<state::StatePackage>& all) {
    for (const state::StatePackage& one : all) {
      rows_.insert(one.row);
      if (one.package.parallel == 1) names_.emplace(one.package.name, one.package.arch);
    }
  }
  /// What the change brought, or something in the place of what it took away.
  bool has(const state::PackageChange& change) const {
    if (change.after_row) return rows_.contains(*change.after_row);
    return names_.contains({change.name, change.before->package.arch});
  }

 private:
  std::set<std::int64_t> rows_;
  std::set<std::pair<std::string, std::string>> names_;  // of those that have one version at most
};

}  // namespace hambrel::txn
