// What is done with services around a switch: some are stopped before it, and started again should it fail; after it
// they are started, restarted and checked.
//
// What was stopped is written down first: should this process end there, the next one that changes the root finishes
// it.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "operations/services.h"

namespace hambrel::operations {

class ServiceRun {
 public:
  ServiceRun(ChangingRoot& root, std::vector<plan::ServiceStep> steps);
  ServiceRun(const ServiceRun&) = delete;
  ServiceRun& operator=(const ServiceRun&) = delete;

  /// Throws Error{Refused} for one that does not stop: nothing is changed then, and what was stopped runs again.
  void before_rehearsal();
  void before_switch();
  bool has_stopped_some() const { return !stopped_.empty(); }
  /// Nothing was switched: what was stopped is started.
  void start_again();
  /// It was switched. Tells what was done, and writes it into the ledger.
  std::vector<ServiceDone> carry_on(state::TxnId id);
  /// Services that ran before.
  const std::set<std::string>& ran() const { return ran_; }

 private:
  void stop(const plan::ServiceStep& step);
  void write_down();
  bool ran_before(const plan::ServiceStep& step);
  ServiceDone finish(const plan::ServiceStep& step);
  ServiceDone check(const plan::ServiceStep& step);

  ChangingRoot& root_;
  std::vector<plan::ServiceStep> steps_;
  std::unique_ptr<services::Manager> manager_;  // none: nothing can be done
  std::set<std::string> stopped_, ran_;
  std::vector<state::RunRecord> records_;
};

/// Switches by `work`, with what that means for services around it. What was done is in the outcome.
void with_services(ChangingRoot& root, const std::vector<plan::ServiceStep>& steps,
                   const std::function<bool()>& stop_asked, Outcome& outcome,
                   const std::function<state::TxnId(txn::Engine&)>& work);

/// Finishes what a process that was ended left undone. Nothing where there is nothing.
void finish_services(ChangingRoot& root);

}  // namespace hambrel::operations
