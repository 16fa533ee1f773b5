#include "operations/proposal.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/amounts.h"
#include "base/assert.h"
#include "base/text.h"
#include "operations/limits.h"
#include "operations/protection.h"
#include "operations/service_run.h"
#include "os/host.h"
#include "plan/plan_record.h"

namespace hambrel::operations {

std::shared_ptr<const ExactRequest> Proposal::exactly() const { return nullptr; }

std::unique_ptr<Proposal> Proposal::decided(Decisions, GivenAnswers) {
  throw Error(ErrorCode::Internal, "answers to questions that nobody put");
}

Outcome Proposal::perform(ChangingRoot& root, const Terms& terms) {
  HAMBREL_ASSERT(root.state() != nullptr, "whoever changes a root has its state");
  if (!questions().empty())
    throw Error(ErrorCode::Internal, fmt::format("/{} needs a decision", questions().front().path));
  if (!questions_of_packages().empty())
    throw Error(ErrorCode::Internal, fmt::format("{} needs an answer", questions_of_packages().front().package));
  require_accepted(doubts(), terms.accepts_unsigned);
  return carry_out(root, terms);
}

txn::Account account_of(Root& root, const plan::Plan& plan, const std::string& reason) {
  txn::Account account;
  account.kind = plan.kind;
  account.command = root.options().command;
  account.user = os::user_name();
  account.note = reason;
  account.record = plan::record_of(plan);
  return account;
}

txn::Planned with_retention(Root& root, txn::Planned planned) {
  if (root.state() == nullptr || (planned.tree.moves.empty() && planned.moves.empty())) return planned;
  planned.gives_up = txn::over_limits(attic_limits(root), standing_attics(root), planned.attic.empty() ? 1 : 0);
  std::erase_if(planned.gives_up, [&](state::TxnId id) {  // an undo takes its files from there
    return planned.attic == fmt::format("{}/{}", txn::kAttic, number(id));
  });
  if (!planned.gives_up.empty()) planned.plan.notices.push_back(txn::notice_of(planned.gives_up));
  return planned;
}

std::optional<std::string> check_prepared(Root& root, End end) {
  const state::State* const state = root.state();
  const auto standing = state == nullptr ? std::nullopt : state->prepared();
  if (!standing) return std::nullopt;
  const std::string what = fmt::format("`{}`, {}", printable(standing->command), time_text(standing->time));
  if (end == End::Prepare)
    throw Error(ErrorCode::Refused, "a change is already prepared: " + what, {},
                "`hambrel activate` switches to it, `hambrel activate --discard` drops it");
  return fmt::format("what is prepared ({}) can no longer be activated after this", what);
}

Outcome execute(ChangingRoot& root, txn::Planned& planned, const txn::Account& account, End end, bool fetches,
                const std::function<bool()>& stop_asked) {
  Outcome outcome;
  outcome.end = end;
  if (end == End::Prepare) {
    outcome.staged = txn::Engine(root.environment(stop_asked)).prepare(planned, account).staged;
    return outcome;
  }
  with_services(root, planned.services, stop_asked, outcome,
                [&](txn::Engine& engine) { return engine.run(planned, account); });
  outcome.stopped_too_late = stop_asked();
  if (fetches) outcome.cache = trim_cache(root);
  return outcome;
}

CacheTrim trim_cache(Root& root) {
  try {
    const auto go = repo::over_limits(cache_limits(root), repo::cached_files(root.files()), os::now());
    if (go.empty()) return {};
    return {go.size(), repo::drop_cached(root.files(), go)};
  } catch (const Error& problem) {  // the transaction is done, and stays so
    root.observer().note(fmt::format("the cache could not be reduced to its limits: {}", problem.what()));
    return {};
  }
}

namespace {

class PlannedProposal final : public Proposal {
 public:
  PlannedProposal(Root& root, Parts parts, txn::Planned planned, bool does_nothing, std::shared_ptr<VersionFiles> files)
      : Proposal(std::move(parts)),
        root_(root),
        files_(std::move(files)),
        planned_(std::move(planned)),
        nothing_(does_nothing) {}

  bool does_nothing() const override { return nothing_; }
  std::vector<ConfigDifference> config_differences() const override {
    return operations::config_differences(root_, plan(), planned_, [&](const txn::Put& put) {
      const archive::PackageReader& reader = *planned_.sources.at(put.package).reader;
      return reader.content(*reader.find(put.path_in_package()));
    });
  }

 private:
  Outcome carry_out(ChangingRoot& root, const Terms& terms) override {
    txn::Account account = account_of(root, plan(), terms.reason);
    account.downloaded = plan().download();
    return execute(root, planned_, account, end(), plan().download() > 0, terms.stop_asked);
  }

  Root& root_;
  std::shared_ptr<VersionFiles> files_;
  txn::Planned planned_;
  const bool nothing_;
};

/// Going back changes held packages, too, as it must be exact: that is said, or each has to be named.
std::vector<std::string> remarks_on_holds(Root& root, const txn::Planned& planned, const PlannedTerms& terms) {
  const std::set<std::string> named(terms.release.begin(), terms.release.end());
  std::vector<std::string> remarks;
  for (const state::PackageChange& change : planned.changes) {
    if (!change.before_row || change.before_row == change.after_row || named.contains(change.name)) continue;
    const auto hold = root.state()->package(*change.before_row).hold;
    if (!hold || (hold->until != 0 && hold->until <= os::now())) continue;
    const bool came_with_it = planned.undo_of && change.before->hold && change.before->hold->since == hold->since;
    if (came_with_it) continue;
    const std::string why = hold->reason.empty() ? "" : ": " + printable(hold->reason);
    if (terms.name_holds)
      throw Error(ErrorCode::Refused, fmt::format("{} is held{}, and this would change it", change.name, why), {},
                  fmt::format("to change it anyway: --release {}", change.name));
    remarks.push_back(fmt::format("{} is held{}; this changes it anyway", change.name, why));
  }
  return remarks;
}

}  // namespace

std::unique_ptr<Proposal> propose(Root& root, txn::Planned planned, const PlannedTerms& terms,
                                  std::shared_ptr<VersionFiles> files, const char* remark_on_nothing) {
  require_allowed(root, planned.plan, terms.allow_essential);
  ActingTerms acting = terms.acting;
  acting.prepares = terms.end == End::Prepare;
  add_runs(root, planned, acting);
  planned = with_retention(root, std::move(planned));
  const bool nothing = planned.does_nothing();
  Proposal::Parts parts;
  parts.end = terms.end;
  if (nothing && remark_on_nothing != nullptr) parts.remarks.emplace_back(remark_on_nothing);
  if (auto remark = nothing ? std::nullopt : check_prepared(root, terms.end))
    parts.remarks.push_back(std::move(*remark));
  for (std::string& remark : remarks_on_holds(root, planned, terms)) parts.remarks.push_back(std::move(remark));
  parts.plan = std::move(planned.plan);
  return std::make_unique<PlannedProposal>(root, std::move(parts), std::move(planned), nothing, std::move(files));
}

}  // namespace hambrel::operations
