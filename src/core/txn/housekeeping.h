// Housekeeping: what the directories of finished transactions become, attics that are given up, the ledger's copy.
//
// Nothing depends on it but room on the disk and bad days: what it leaves undone the next start finishes.
#pragma once

#include <string>

#include "txn/environment.h"

namespace hambrel::txn {

class Housekeeping {
 public:
  explicit Housekeeping(const Environment& environment) : env_(environment) {}

  /// After a commit the transaction's directories become its attic; attics that are given up and stages that nothing
  /// names go. Idempotent (I6). Nothing while a journal stands.
  void settle_directories();
  /// Writes what the ledger's copy lacks. What fails is told.
  void copy();
  /// Both; what fails is told.
  void tidy_up();

 private:
  void remove_given_up(const std::string& attics);
  void remove_if_possible(const std::string& path);
  void settle_stage(const std::string& home, const std::string& name);
  void to_attic(const std::string& from, const std::string& attic);

  const Environment& env_;
};

}  // namespace hambrel::txn
