#include "operations/activating.h"

#include "operations/service_run.h"
#include "plan/plan_record.h"

namespace hambrel::operations {

std::optional<PreparedChange> prepared(Root& root) {
  const state::State* const state = root.state();
  auto standing = state == nullptr ? std::nullopt : state->prepared();
  if (!standing) return std::nullopt;
  plan::Plan plan = plan::plan_of(standing->record);
  return PreparedChange{std::move(*standing), std::move(plan)};
}

Outcome activate(ChangingRoot& root, const PreparedChange& one, bool booting, const std::function<bool()>& stop_asked) {
  Outcome outcome;
  with_services(root, booting ? std::vector<plan::ServiceStep>() : one.plan.services, stop_asked, outcome,
                [&](txn::Engine& engine) { return engine.activate(one.account); });
  if (!booting || one.plan.services.empty()) return outcome;
  if (const auto manager = service_manager(root); manager != nullptr && manager->is_live()) manager->read_again();
  return outcome;
}

void discard(ChangingRoot& root, const PreparedChange& one) { txn::Engine(root.environment()).discard(one.account); }

void activate_at_boot(ChangingRoot& root, const PreparedChange& one, bool at_boot) {
  root.state_to_change().activate_at_boot(one.account.id, at_boot);
}

}  // namespace hambrel::operations
