#include "operations/change_proposal.h"

#include <fmt/format.h>

#include <algorithm>
#include <future>

#include "base/amounts.h"
#include "base/parallel.h"
#include "base/text.h"
#include "model/manifest.h"
#include "operations/incoming_files.h"
#include "os/host.h"
#include "repo/download.h"

namespace hambrel::operations {

namespace {

/// A change of packages with all that is known of their files.
class ChangeProposal final : public Proposal {
 public:
  ChangeProposal(Root& root, ChangeRequest request, plan::Plan plan, std::optional<MarkRequest> mark = {})
      : root_(root), request_(std::move(request)), mark_(std::move(mark)) {
    end_ = request_.end;
    planned_.plan = std::move(plan);
    if (planned_.plan.empty()) return;
    if (request_.look_at_files || end_ == End::FetchOnly) incoming_.emplace(root_, planned_.plan);
    if (request_.look_at_files) plan_files();
    if (end_ != End::FetchOnly) {
      plan_retention(root_, planned_);
      if (auto remark = check_prepared(root_, end_)) remarks_.push_back(std::move(*remark));
    }
    if (!request_.enables.empty()) remarks_.push_back(fmt::format("this enables the repository {}", request_.enables));
  }
  ~ChangeProposal() override {
    if (lists_.valid()) lists_.wait();  // no thread outlives the run
  }

  const plan::Plan& plan() const override { return planned_.plan; }
  const std::vector<ConfigQuestion>& questions() const override { return configuration_.open; }

  void decide(txn::Choices answers) override {
    tree_options_.choices.merge(answers);
    configuration_.open.clear();
    plan_tree(*root_.state());
    plan_retention(root_, planned_);
  }

  Outcome perform(ChangingRoot& root, const Terms& terms) override {
    if (!request_.enables.empty()) repo::set_enabled(root.files(), request_.enables, true);
    Outcome outcome = end_ == End::FetchOnly ? only_fetch() : carry_out(root, terms);
    incoming_.reset();  // and its thread
    return outcome;
  }

 private:
  Outcome only_fetch() {
    for (const std::string& dropped : repo::drop_damaged(root_.files(), incoming_->offered()))
      root_.observer().note(fmt::format("{}: damaged in the cache; it is fetched again", dropped));
    Outcome outcome;
    outcome.end = End::FetchOnly;
    outcome.fetched = repo::download(root_.files(), incoming_->offered(), root_.repositories(),
                                     root_.settings().downloads, root_.observer());
    return outcome;
  }

  void plan_files() {
    std::vector<PackageId> coming;
    for (const plan::Step& step : planned_.plan.steps) {
      if (!step.brings_files()) continue;
      const Package& package = root_.universe().package(*step.after_id);
      if (const std::string feature = unknown_feature(package); !feature.empty())
        throw Error(ErrorCode::Refused,
                    fmt::format("{} needs an installer that knows \"{}\"", package.title(), printable(feature)), {},
                    "use a newer hambrel, or an older version of the package");
      coming.push_back(*step.after_id);
    }
    std::unique_ptr<state::State> empty;
    const state::State* state = root_.state();
    if (state == nullptr) {  // a dry run on a root without a state: as if it had an empty one
      empty = std::make_unique<state::State>();
      state = empty.get();
    }
    for (const plan::Step& step : planned_.plan.steps)
      if (step.before_id && !step.only_state())
        leaving_.push_back(state->package(root_.universe()[*step.before_id].installed->row));
    look_ahead(*state);
    tables_ = tables_of(root_, coming, &damaged_);
    for (plan::Step& step : planned_.plan.steps)
      if (step.after_id && std::find(damaged_.begin(), damaged_.end(), *step.after_id) != damaged_.end())
        step.download = root_.universe()[*step.after_id].offers.front().size;
    for (const PackageId id : coming)
      archive::require_named_privileges(*tables_.at(id), root_.universe().package(id),
                                        root_.universe().package(id).title());
    lists_ = std::async(kThread, [tables = tables_] {  // while it is planned
      std::map<PackageId, state::FileList> lists;
      for (const auto& [id, table] : tables) lists.emplace(id, state::FileList::of(table->entries));
      return lists;
    });
    for (const PackageId id : coming) {
      const state::StatePackage* const kept = root_.kept(id);
      if (kept != nullptr && !kept_) kept_.emplace(root_.files(), *root_.state(), state::TxnId{0});
      from_kept_.push_back(kept);
      entering_.push_back({root_.universe().package(id), tables_.at(id).get(), kept != nullptr ? &*kept_ : nullptr,
                           kept != nullptr && kept->shelved});
      planned_.sources.push_back({entering_.back().package, nullptr});
    }
    tree_options_.workers = os::processors();
    tree_options_.fetched = incoming_->missing();
    plan_purge(*state);
    plan_tree(*state);
    tree_options_.ahead.reset();
    if (planned_.tree.conflicts.empty() || end_ == End::FetchOnly) return;
    configuration_ = operations::decide(
        root_, questions_of(root_, planned_.tree.conflicts, coming, tables_, planned_.plan), request_.configuration);
    tree_options_.choices = configuration_.choices;
    plan_tree(*state);
    for (plan::ConfigStep& step : planned_.plan.configs)
      for (const ConfigQuestion& question : configuration_.open)
        if (question.path == step.path) step.action = plan::ConfigAction::Ask;
  }

  /// The files of what is replaced, most of which will be the same again.
  void look_ahead(const state::State& state) {
    std::vector<std::int64_t> rows;
    for (const plan::Step& step : planned_.plan.steps)
      if (step.before_id && step.brings_files()) rows.push_back(root_.universe()[*step.before_id].installed->row);
    tree_options_.ahead = std::make_shared<txn::LookAhead>(root_.files(), state, rows);
  }

  void plan_tree(const state::State& state) {
    planned_.tree = txn::plan_tree(root_.files(), state, leaving_, entering_, tree_options_);
    files_.emplace(root_);
    txn::source_missing_content(planned_, from_kept_, files_->file_of());
    planned_.tell_of_files();
    planned_.plan.notices.insert(planned_.plan.notices.end(), configuration_.notices.begin(),
                                 configuration_.notices.end());
    tell_of_privileges();
    tell_of_dangers();
    if (request_.strict) refuse_unowned();
  }

  /// With --purge: edited configuration of what is removed, and what earlier versions of it have left behind.
  void plan_purge(const state::State& state) {
    if (!request_.purge) return;
    solve::Names names(request_.purge_also.begin(), request_.purge_also.end());
    for (const plan::Step& step : planned_.plan.steps)
      if (step.action == plan::Action::Remove) names.insert(step.name);
    for (const state::StatePackage& one : leaving_)
      if (names.contains(one.package.name)) tree_options_.purge.insert(one.row);
    for (const txn::ConfigFile& one : txn::configuration_files(root_.files(), state))
      if (one.state == txn::ConfigState::Leftover && names.contains(one.package.package.name) &&
          tree_options_.gone.insert(one.package.row).second) {
        tree_options_.purge.insert(one.package.row);
        leaving_.push_back(one.package);
      }
  }

  /// Files that run with another's rights, where the version that leaves did not have them.
  void tell_of_privileges() {
    for (const txn::Entering& one : entering_)
      for (const std::string& path : one.package.privileged) {
        const bool known = std::any_of(leaving_.begin(), leaving_.end(), [&](const state::StatePackage& old) {
          const auto& before = old.package.privileged;
          return std::find(before.begin(), before.end(), path) != before.end();
        });
        if (!known) planned_.plan.notices.push_back({plan::Notice::Kind::Privileged, path, one.package.name});
      }
  }

  /// Settings of Hambrel's own, and directories that every user may change, where the version that leaves had neither.
  void tell_of_dangers() {
    constexpr std::uint32_t kForAll = 0002, kSticky = 01000;
    const auto known = [&](const archive::Entry& entry) {
      return std::any_of(leaving_.begin(), leaving_.end(), [&](const state::StatePackage& old) {
        const auto list = root_.state()->files_of(old.row);
        const auto at = list->find(entry.path);
        return at && list->facts(*at).mode == entry.mode;
      });
    };
    const auto tell = [&](plan::Notice::Kind kind, const archive::Entry& entry, const Package& package) {
      if (!known(entry)) planned_.plan.notices.push_back({kind, entry.path, package.name});
    };
    for (const txn::Entering& one : entering_)
      for (const archive::Entry& entry : one.table->entries) {
        const bool directory = entry.type == EntryType::Directory;
        if (directory && (entry.mode & (kForAll | kSticky)) == kForAll)
          tell(plan::Notice::Kind::OpenToAll, entry, one.package);
        if (!directory && entry.path.starts_with("etc/hambrel/"))
          tell(plan::Notice::Kind::OwnSettings, entry, one.package);
      }
  }

  /// --strict: nothing of nobody's is set aside.
  void refuse_unowned() const {
    std::vector<std::string> paths;
    for (const plan::Notice& one : planned_.plan.notices)
      if (one.kind == plan::Notice::Kind::Unowned)
        paths.push_back("/" + printable(one.path) + " (" + one.package + ")");
    if (paths.empty()) return;
    constexpr std::size_t kMost = 5;
    const std::size_t more = paths.size() > kMost ? paths.size() - kMost : 0;
    paths.resize(paths.size() - more);
    throw Error(ErrorCode::Refused,
                fmt::format("files that no package owns are in the way: {}{}", join(paths, ", "),
                            more > 0 ? fmt::format(" and {} more", more) : ""),
                {}, "move them away, or leave out --strict: then they are kept in the attic");
  }

  /// What is not said again about a package that is held already stays as it was.
  Hold hold_for(const Candidate& one) const {
    Hold hold{os::now(), mark_->until.value_or(0), mark_->reason.value_or(""), os::user_name()};
    const bool held =
        one.installed->hold && (one.installed->hold->until == 0 || one.installed->hold->until > os::now());
    if (!held) return hold;
    if (!mark_->until) hold.until = one.installed->hold->until;
    if (!mark_->reason) hold.reason = one.installed->hold->reason;
    return hold;
  }

  /// Once: it takes what was made ready for it.
  std::vector<state::PackageChange> state_changes() {
    const Universe& universe = root_.universe();
    std::map<PackageId, state::FileList> lists = lists_.get();
    std::vector<state::PackageChange> changes;
    for (const plan::Step& step : planned_.plan.steps) {
      state::PackageChange change;
      change.name = step.name;
      if (step.before_id)
        change.before_row = universe[*step.before_id].installed->row,
        change.before = root_.state()->package(*change.before_row);
      if (step.only_state()) {
        change.after_row = change.before_row;
        change.after = change.before;
        change.after->reason = step.reason;
        if (step.action == plan::Action::Hold) change.after->hold = hold_for(universe[*step.before_id]);
        if (step.action == plan::Action::Release) change.after->hold.reset();
      } else if (const auto* const kept = step.after_id ? root_.kept(*step.after_id) : nullptr) {
        change.after_row = kept->row;
        change.after = *kept;
        if (kept->shelved) change.before_row = kept->row, change.before = *kept;
        change.after->shelved = false;
        change.after->reason = step.reason;
        if (!kept->shelved) change.after->hold = step.held ? request_.hold : std::nullopt;
      } else if (step.after_id) {
        state::StatePackage after;
        after.package = universe.package(*step.after_id);
        after.reason = step.reason;
        after.origin = step.origin;
        after.digest = universe[*step.after_id].offers.front().digest;
        after.time = os::now();
        if (step.held) after.hold = request_.hold;
        change.after = std::move(after);
        change.files = std::move(lists.at(*step.after_id));
      }
      changes.push_back(std::move(change));
    }
    return changes;
  }

  /// What lies damaged in the cache goes.
  void drop_damaged() {
    for (const PackageId id : damaged_)
      if (const std::string path = repo::cache_path(root_.universe().package(id)); root_.files().stat(path))
        root_.files().remove_file(path);
  }

  Outcome carry_out(ChangingRoot& root, const Terms& terms) {
    txn::Account account = account_of(root, planned_.plan, terms.reason);
    for (const plan::Step& step : planned_.plan.steps)  // what is fetched while staging, a piece at a time
      if (step.after_id && root.kept(*step.after_id) != nullptr) account.downloaded += step.download;
    txn::Engine engine(root.environment());
    const std::int64_t started = os::now();
    try {
      incoming_->verify_outside();
    } catch (const Error& problem) {
      engine.record_failure(started, account, problem.what());
      throw;
    }
    drop_damaged();
    planned_.changes = state_changes();
    for (bool again = false;; again = true) {
      bool handed_over = false;
      try {
        incoming_->open(planned_, tables_, terms.stop_asked);
        handed_over = true;
        return execute(root, planned_, account, end_, terms.stop_asked);
      } catch (const Error& problem) {
        root.observer().end();
        if (!again && incoming_->drop_damaged(problem)) continue;
        if (!handed_over) engine.record_failure(started, account, problem.what());  // else the engine has written it
        if (problem.code() == ErrorCode::Declined && incoming_->fetched() > 0)
          throw Error(problem.code(), problem.problem(), problem.where(),
                      fmt::format("{} of the packages have come and stay in the cache: the next try goes on from there",
                                  size_text(incoming_->fetched())));
        throw;
      }
    }
  }

  Root& root_;
  ChangeRequest request_;
  std::optional<MarkRequest> mark_;
  txn::Planned planned_;
  Tables tables_;
  std::future<std::map<PackageId, state::FileList>> lists_;  // from the tables, for the state
  std::vector<PackageId> damaged_;                           // in the cache
  std::optional<txn::Kept> kept_;
  std::vector<const state::StatePackage*> from_kept_;  // by entering package; nullptr: not from there
  std::optional<VersionFiles> files_;
  txn::TreeOptions tree_options_;
  ConfigDecisions configuration_;
  std::vector<state::StatePackage> leaving_;
  std::vector<txn::Entering> entering_;
  std::optional<IncomingFiles> incoming_;
};

}  // namespace

std::unique_ptr<Proposal> change_proposal(Root& root, ChangeRequest request, plan::Plan plan,
                                          std::optional<MarkRequest> mark) {
  return std::make_unique<ChangeProposal>(root, std::move(request), std::move(plan), std::move(mark));
}

}  // namespace hambrel::operations
