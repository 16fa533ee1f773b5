#include "operations/change_proposal.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/amounts.h"
#include "base/assert.h"
#include "base/text.h"
#include "operations/change_files.h"
#include "operations/incoming_files.h"
#include "operations/protection.h"
#include "operations/repositories.h"
#include "operations/whats_new.h"
#include "os/host.h"
#include "repo/download.h"

namespace hambrel::operations {

namespace {

/// What stays the same, whatever is decided about configuration.
struct Basis {
  Basis(Root& of, ChangeRequest asked, plan::Plan plan) : root(of), request(std::move(asked)) {
    Vouched known = vouched(of, std::move(plan));
    packages = std::move(known.plan);
    doubts = std::move(known.doubts);
    require_allowed(of, packages, request.solve.allow_essential);
    require_licenses(of, packages);
    if (packages.empty() && request.picks.empty()) return;
    if (request.look_at_files || request.end == End::FetchOnly) incoming.emplace(root, packages);
    if (request.look_at_files && request.end != End::FetchOnly) files.emplace(root, request, packages, *incoming);
  }

  Root& root;
  const ChangeRequest request;
  plan::Plan packages;
  std::vector<Doubt> doubts;
  std::optional<IncomingFiles> incoming;
  std::optional<ChangeFiles> files;
};

class ChangeProposal final : public Proposal {
 public:
  ChangeProposal(std::shared_ptr<Basis> basis, Parts parts, txn::Planned planned, Decisions decisions)
      : Proposal(std::move(parts)),
        basis_(std::move(basis)),
        planned_(std::move(planned)),
        decisions_(std::move(decisions)) {}

  std::unique_ptr<Proposal> decided(Decisions decisions, GivenAnswers answers) override {
    decisions.insert(decisions_.begin(), decisions_.end());
    return make(basis_, std::move(decisions), answers);
  }

  std::shared_ptr<const ExactRequest> exactly() const override {
    return std::make_shared<ExactRequest>(ExactRequest{basis_->request, decisions_});
  }

  std::vector<state::FollowChange> may_follow() const override { return basis_->request.may_follow; }

  std::vector<ConfigDifference> config_differences() const override {
    return operations::config_differences(basis_->root, plan(), planned_,
                                          [&](const txn::Put& put) { return basis_->files->content_of(put); });
  }

  /// With all that is decided on, by the request or by answers.
  static std::unique_ptr<Proposal> make(std::shared_ptr<Basis> basis, Decisions decisions,
                                        const GivenAnswers& answers = {}) {
    txn::Planned planned;
    planned.plan = basis->packages;
    if (basis->files) planned = basis->files->plan(decisions, answers);
    planned.follows = basis->request.follows;
    return finished(std::move(basis), std::move(planned), std::move(decisions), {});
  }

  /// The first one: what the request decides is decided, the rest of it is asked about. Most changes leave nothing to
  /// be decided, and what waits need not be planned anew.
  static std::unique_ptr<Proposal> make(std::shared_ptr<Basis> basis) {
    const bool only_fetches = basis->request.end == End::FetchOnly;
    if (!basis->files || only_fetches) return make(std::move(basis), {});
    txn::Planned planned = basis->files->plan({});
    ConfigDecisions found =
        operations::decide(basis->root, basis->files->questions(planned), basis->request.configuration);
    const bool waits = std::all_of(found.choices.begin(), found.choices.end(),
                                   [](const auto& one) { return one.second.action == plan::ConfigAction::Wait; });
    if (!waits) planned = basis->files->plan(found.choices);
    planned.follows = basis->request.follows;
    Decisions decisions = found.choices;
    return finished(std::move(basis), std::move(planned), std::move(decisions), std::move(found));
  }

 private:
  static std::unique_ptr<Proposal> finished(std::shared_ptr<Basis> basis, txn::Planned planned, Decisions decisions,
                                            ConfigDecisions found) {
    Parts parts;
    parts.end = basis->request.end;
    if (parts.end != End::FetchOnly) parts.doubts = basis->doubts;
    auto& notices = planned.plan.notices;
    notices.insert(notices.end(), found.notices.begin(), found.notices.end());
    for (plan::ConfigStep& step : planned.plan.configs)
      for (const ConfigQuestion& question : found.open)
        if (question.path == step.path) step.action = plan::ConfigAction::Ask;
    if (!planned.plan.empty() && parts.end != End::FetchOnly) {
      planned = with_retention(basis->root, std::move(planned));
      if (auto remark = check_prepared(basis->root, parts.end)) parts.remarks.push_back(std::move(*remark));
    }
    if (!basis->request.enables.empty())
      parts.remarks.push_back(fmt::format("this enables repository {}", basis->request.enables));
    for (const state::FollowChange& one : basis->request.may_follow)
      parts.remarks.push_back(
          fmt::format("{} does not follow {} for upgrades; --follow changes that", one.name, one.after));
    for (std::string& remark : security_remarks(basis->root, planned.plan)) parts.remarks.push_back(std::move(remark));
    if (auto remark = age_of_indexes(basis->root, planned.plan)) parts.remarks.push_back(std::move(*remark));
    parts.questions = std::move(found.open);
    if (parts.end != End::FetchOnly) parts.of_packages = open_questions(basis->root, planned);
    parts.plan = std::move(planned.plan);
    return std::make_unique<ChangeProposal>(std::move(basis), std::move(parts), std::move(planned),
                                            std::move(decisions));
  }

  /// What comes from repositories may be known to be older than it is.
  static std::optional<std::string> age_of_indexes(Root& root, const plan::Plan& plan) {
    const bool brings = plan.kind == "upgrade" || std::any_of(plan.steps.begin(), plan.steps.end(),
                                                              [](const auto& step) { return step.brings_files(); });
    const auto oldest = brings ? oldest_index(root) : std::nullopt;
    if (!oldest) return std::nullopt;
    return fmt::format("the index of {} was last fetched {}; `hambrel refresh` asks what is new", oldest->repository,
                       age_text(os::now(), oldest->fetched));
  }

  Outcome carry_out(ChangingRoot& root, const Terms& terms) override {
    const bool enables = !basis_->request.enables.empty();
    if (enables) settings::set_enabled(root.files(), basis_->request.enables, true);
    try {
      Outcome outcome = end() == End::FetchOnly ? only_fetch(root) : change(root, terms);
      basis_->incoming.reset();  // and its thread
      return outcome;
    } catch (...) {
      if (enables) disable_again(root);
      throw;
    }
  }

  /// What failed changes nothing. The failure itself is what has to be told, whatever happens here.
  void disable_again(ChangingRoot& root) const {
    try {
      settings::set_enabled(root.files(), basis_->request.enables, false);
    } catch (const Error& problem) {
      root.observer().note(fmt::format("repository {} stays enabled: {}", basis_->request.enables, problem.what()));
    }
  }

  Outcome only_fetch(ChangingRoot& root) const {
    const auto& offered = basis_->incoming->offered();
    for (const std::string& dropped : repo::drop_damaged(root.files(), offered))
      root.observer().note(fmt::format("{}: damaged in the cache; it is fetched again", dropped));
    Outcome outcome;
    outcome.end = End::FetchOnly;
    outcome.fetched = repo::download(root.files(), root.network(), offered, root.repositories(), root.observer(), true);
    return outcome;
  }

  Outcome change(ChangingRoot& root, const Terms& terms) {
    plan::Plan told = plan();
    if (terms.follows)
      for (const state::FollowChange& one : may_follow()) {
        planned_.follows.push_back(one);
        told.follows.push_back({one.name, one.before, one.after});
      }
    txn::Account account = account_of(root, told, terms.reason);
    for (const plan::Step& step : plan().steps)  // what is fetched while staging, a piece at a time
      if (step.after_id && root.kept(*step.after_id) != nullptr) account.downloaded += step.download;
    txn::Engine engine(root.environment());
    const std::int64_t started = os::now();
    IncomingFiles& incoming = *basis_->incoming;
    try {
      incoming.verify_outside();
    } catch (const Error& problem) {
      engine.record_failure(started, account, problem.what());
      throw;
    }
    drop_damaged(root);
    HAMBREL_ASSERT(planned_.changes.empty(), "a proposal is performed once");
    HAMBREL_ASSERT(basis_->files && basis_->incoming, "what was planned without files is only shown");
    planned_.changes = state_changes(root);
    HAMBREL_ASSERT(planned_.changes.size() == plan().steps.size(), "each step that was shown is recorded");
    constexpr int kMostTries = 5;  // each without what was found to be wrong, or from another mirror
    for (int tries = 1;; ++tries) {
      bool handed_over = false;
      try {
        incoming.open(planned_, basis_->files->tables(), terms.stop_asked);
        handed_over = true;
        Outcome outcome = execute(root, planned_, account, end(), false, terms.stop_asked);
        incoming.drop_ranges();
        if (end() == End::Switch && plan().download() > 0) outcome.cache = trim_cache(root);
        return outcome;
      } catch (const Error& problem) {
        root.observer().end();
        if (tries < kMostTries && !planned_.spent && incoming.drop_damaged(problem)) continue;
        if (!handed_over) engine.record_failure(started, account, problem.what());  // else the engine has written it
        if (problem.code() == ErrorCode::Declined && incoming.fetched() > 0)
          throw Error(problem.code(), problem.problem(), problem.where(),
                      fmt::format("{} of the packages stay in the cache: the next try continues from there",
                                  size_text(incoming.fetched())));
        throw;
      }
    }
  }

  /// What lies damaged in the cache goes.
  void drop_damaged(ChangingRoot& root) const {
    for (const PackageId id : basis_->files->damaged())
      if (const std::string path = repo::cache_path(root.universe().package(id)); root.files().stat(path))
        root.files().remove_file(path);
  }

  /// What is not said again about a package that is held already stays as it was.
  Hold hold_for(const Candidate& one) const {
    const MarkRequest& mark = *mark_of(one.package.name);
    Hold hold = new_hold(mark);
    const bool held =
        one.installed->hold && (one.installed->hold->until == 0 || one.installed->hold->until > os::now());
    if (!held) return hold;
    if (!mark.until) hold.until = one.installed->hold->until;
    if (!mark.reason) hold.reason = one.installed->hold->reason;
    return hold;
  }
  static Hold new_hold(const MarkRequest& mark) {
    return {os::now(), mark.until.value_or(0), mark.reason.value_or(""), os::user_name()};
  }
  /// The request that holds a package; nullptr: none does.
  const MarkRequest* mark_of(const std::string& name) const {
    for (const MarkRequest& mark : basis_->request.marks)
      if (mark.action == plan::Action::Hold && mark.names.contains(name)) return &mark;
    return nullptr;
  }
  /// Of a package that changes: held in its new version or not.
  std::optional<Hold> hold_after(const plan::Step& step) const {
    if (!step.held) return std::nullopt;
    if (const MarkRequest* const mark = mark_of(step.name)) return new_hold(*mark);
    return basis_->request.hold;
  }

  /// What the state records.
  std::vector<state::PackageChange> state_changes(ChangingRoot& root) const {
    std::vector<state::PackageChange> changes;
    for (const plan::Step& step : plan().steps) {
      state::PackageChange& change = changes.emplace_back();
      change.name = step.name;
      if (step.before_id) {
        change.before_row = root.universe()[*step.before_id].installed->row;
        change.before = root.state()->package(*change.before_row);
        for (const state::PackageChange& earlier : changes)  // it may be marked twice: held and wanted
          if (&earlier != &change && earlier.after_row == change.before_row) change.before = earlier.after;
      }
      if (step.only_state())
        mark(root, step, change);
      else if (const auto* const kept = step.after_id ? root.kept(*step.after_id) : nullptr)
        bring_back(step, *kept, change);
      else if (step.after_id)
        bring(root, step, basis_->files->files_of(*step.after_id), change);
    }
    return changes;
  }

  void mark(ChangingRoot& root, const plan::Step& step, state::PackageChange& change) const {
    HAMBREL_ASSERT(change.before && change.before_row, "what is marked is there");
    change.after_row = change.before_row;
    change.after = change.before;
    change.after->reason = step.reason;
    if (step.action == plan::Action::Hold) change.after->hold = hold_for(root.universe()[*step.before_id]);
    if (step.action == plan::Action::Release) change.after->hold.reset();
  }

  void bring_back(const plan::Step& step, const state::StatePackage& kept, state::PackageChange& change) const {
    change.after_row = kept.row;
    change.after = kept;
    if (kept.shelved) {
      change.before_row = kept.row;
      change.before = kept;
    }
    change.after->shelved = false;
    change.after->reason = step.reason;
    if (!kept.shelved) change.after->hold = hold_after(step);
  }

  void bring(ChangingRoot& root, const plan::Step& step, FileList files, state::PackageChange& change) const {
    const Universe& universe = root.universe();
    state::StatePackage after;
    after.package = universe.package(*step.after_id);
    after.reason = step.reason;
    after.origin = step.origin;
    after.digest = universe[*step.after_id].offers.front().digest;
    after.time = os::now();
    after.hold = hold_after(step);
    change.after = std::move(after);
    change.files = std::move(files);
  }

  std::shared_ptr<Basis> basis_;
  txn::Planned planned_;  // all but its plan
  const Decisions decisions_;
};

}  // namespace

std::unique_ptr<Proposal> change_proposal(Root& root, ChangeRequest request, plan::Plan plan) {
  return ChangeProposal::make(std::make_shared<Basis>(root, std::move(request), std::move(plan)));
}

}  // namespace hambrel::operations
