// What programs of packages made in the root (triggers and hooks, see docs/acting.md),
// and what was run in each transaction.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "state/records.h"
#include "state/store.h"

namespace hambrel::state {

class GeneratedStore : protected Store {
 public:
  /// By path, as the last one who made it left it.
  std::vector<Generated> generated() const;
  std::vector<Generated> generated_by(const std::string& package) const;
  std::optional<Generated> generated_at(std::string_view path) const;
  /// What a transaction changed of that, by path.
  std::vector<GeneratedChange> generated_changes_of(TxnId id) const;
  /// What the administrator picked, by path; and what a transaction changed of that.
  std::map<std::string, std::string> picks() const;
  std::vector<PickChange> pick_changes_of(TxnId id) const;
  /// The channels that packages follow instead of those of their repositories, by name; and what a transaction changed
  /// of that.
  std::map<std::string, std::string> follows() const;
  std::vector<FollowChange> follow_changes_of(TxnId id) const;
  /// What was answered to questions of packages, by package and key.
  std::map<std::string, std::map<std::string, std::string>> answers() const;
  /// What it changed of accounts, in that order.
  std::vector<LineChange> lines_of(TxnId id) const;
  /// Of all transactions that were done, in their order.
  std::vector<LineChange> all_lines() const;
  /// In the order in which they ran.
  std::vector<RunRecord> runs_of(TxnId id) const;
  /// Those that were left out when they were due last, in a transaction that stands; each once.
  struct LeftOut {
    TxnId id{};
    RunRecord run;
  };
  std::vector<LeftOut> left_out() const;
  /// The last transaction in which this was run, 0 for none.
  TxnId last_run(const std::string& package, const std::string& program) const;

 protected:
  using Store::Store;
  friend class State;
};

}  // namespace hambrel::state
