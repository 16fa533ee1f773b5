#include "cli/change.h"

#include <fmt/format.h>

#include <algorithm>
#include <future>

#include "base/json.h"
#include "base/parallel.h"
#include "base/text.h"
#include "cli/apart.h"
#include "cli/incoming.h"
#include "cli/package_files.h"
#include "cli/package_view.h"
#include "cli/plan_view.h"
#include "cli/settling.h"
#include "model/manifest.h"
#include "os/host.h"
#include "os/interrupt.h"
#include "solve/solver.h"

namespace hambrel::cli {

namespace {

class Change {
 public:
  Change(Session& session, const Arguments& arguments, std::string kind, std::optional<Hold> hold = {})
      : session_(session), arguments_(arguments), hold_(std::move(hold)) {
    planned_.plan.kind = std::move(kind);
  }

  int run(const solve::Request& request) {
    auto answer = solve::solve(session_.universe(), request);
    if (auto* refusal = std::get_if<solve::Refusal>(&answer)) {
      if (!refusal->decided)
        throw Error(ErrorCode::Undecided, refusal->what, {},
                    "nothing was changed; ask for less at once, or raise `budget` (seconds) in hambrel.toml");
      const auto remedies = print_refusal(session_, request, *refusal);
      if (const auto taken = choose_remedy(session_, arguments_, remedies)) return take(remedies[*taken]);
      return exit_code(ErrorCode::Refused);
    }
    const auto& selection = std::get<solve::Selection>(answer);
    make_plan(request, selection);
    check(request, selection);
    if (planned_.plan.kind == "downgrade") keep_marks(request);
    off_the_shelf();
    weigh_strays(request);
    if (arguments_.has("verbose"))
      session_.progress().note(
          fmt::format("{} package versions known; {}", session_.universe().size(), told(selection)));
    return carry_through();
  }

  /// Is nothing new about a hold? A held package may be given another date or reason.
  bool is_so(plan::Action action, PackageId id) const {
    const Universe& universe = session_.universe();
    if ((action == plan::Action::Hold) != universe.held(id)) return false;
    const auto hold = universe[id].installed->hold;
    if (action == plan::Action::Release || !hold) return true;
    const bool same_date = !arguments_.has("until") || hold->until == hold_until_;
    const bool same_reason = !arguments_.has("reason") || hold->reason == printable(arguments_.value("reason").value());
    return same_date && same_reason;
  }

  int mark(plan::Action action, const solve::Names& names, std::int64_t hold_until) {
    const Universe& universe = session_.universe();
    hold_until_ = hold_until;
    for (const PackageId id : universe.installed()) {
      if (!names.contains(universe.name(id)) ||
          (!session_.arch().empty() && universe.architecture(id) != session_.arch()))
        continue;
      const Candidate& one = universe[id];
      const bool wanted = action == plan::Action::Want, about_hold = action >= plan::Action::Hold;
      if (about_hold ? is_so(action, id) : wanted == universe.wanted(id)) continue;
      plan::Step step;
      step.action = action;
      step.name = one.package.name, step.arch = one.package.arch;
      step.before = step.after = one.package.version.text();
      step.before_id = step.after_id = id;
      step.origin = one.installed->origin;
      step.reason = about_hold ? one.installed->reason : wanted ? Reason::Wanted : Reason::PulledIn;
      planned_.plan.steps.push_back(std::move(step));
    }
    return carry_through();
  }

 private:
  int carry_through() {
    if (planned_.plan.empty()) return nothing_to_do();
    const bool dry = arguments_.has("dry-run");
    Incoming::take_off_rests(session_, planned_.plan);
    if (!dry || !arguments_.has("no-files")) incoming_.emplace(session_, planned_.plan);
    if (!arguments_.has("no-files")) plan_files();
    if (!arguments_.has("download-only")) weigh_retention(session_, planned_);
    if (session_.json() && dry)
      session_.screen().line(canonical({{"plan", to_json(planned_.plan)}, {"result", "dry run"}}));
    if (!session_.json() && !(session_.quiet() && arguments_.has("yes"))) print_plan(session_, planned_.plan);
    if (!arguments_.has("download-only")) weigh_prepared(session_, arguments_);
    if (!enable_.empty()) session_.screen().remark(fmt::format("this enables the repository {}", enable_));
    if (dry) {
      if (lists_.valid()) lists_.wait();  // no thread outlives the run
      return 0;
    }
    require_consent_possible(session_, arguments_);
    ask_about_configuration();
    ask_consent(session_, arguments_);
    if (!enable_.empty()) repo::set_enabled(session_.root(), enable_, true);
    if (arguments_.has("download-only")) return only_fetch();
    tell_outcome(session_, carry_out(), planned_.plan);
    incoming_.reset();  // and its thread
    return 0;
  }

  /// A downgrade changes the version, not why a package is there; what it names may be held from then on.
  void keep_marks(const solve::Request& request) {
    for (plan::Step& step : planned_.plan.steps) {
      if (step.action != plan::Action::Downgrade) continue;
      step.reason = session_.universe()[*step.before_id].installed->reason;
      for (const solve::Target& target : request.install)
        if (std::find(target.candidates.begin(), target.candidates.end(), *step.after_id) != target.candidates.end())
          step.held = hold_.has_value();
    }
  }

  /// What comes back from the shelf is what it was. Nothing else may come in its place.
  void off_the_shelf() {
    const state::State* const state = session_.present();
    if (state == nullptr) return;
    const auto shelved = state->shelved();
    for (plan::Step& step : planned_.plan.steps) {
      if (!step.brings_files()) continue;
      const auto one = std::find_if(shelved.begin(), shelved.end(), [&](const state::StatePackage& other) {
        return other.package.name == step.name && other.package.arch == step.arch;
      });
      if (one == shelved.end()) continue;
      if (const auto* const kept = session_.kept(*step.after_id); kept == nullptr || kept->row != one->row)
        throw Error(ErrorCode::Refused, fmt::format("{} is shelved", one->package.title()), {},
                    fmt::format("`{}` brings it back", session_.copyable("hambrel unshelve " + step.name)));
      step.action = plan::Action::Unshelve;
      step.reason = one->reason;
      step.size_change = 0;
    }
  }

  int only_fetch() {
    for (const std::string& dropped : repo::drop_damaged(session_.root(), incoming_->offered()))
      session_.progress().note(fmt::format("{}: damaged in the cache; it is fetched again", dropped));
    const ByteCount fetched = repo::download(session_.root(), incoming_->offered(), session_.repositories(),
                                             session_.settings().downloads, session_.progress());
    if (session_.json())
      session_.screen().line(
          canonical({{"plan", to_json(planned_.plan)}, {"result", "fetched"}, {"downloaded", fetched}}));
    else if (!session_.quiet())
      session_.screen().line(
          fetched == 0 ? "Everything lies in the cache already; nothing else was changed."
                       : fmt::format("Fetched {} into the cache; nothing else was changed.", size_text(fetched)));
    return 0;
  }

  /// A remedy that was chosen by its number: what it says, after its repository was enabled.
  /// With its repository, which is enabled once its plan was agreed to.
  int take(const plan::Remedy& remedy) {
    const bool goes_down = planned_.plan.kind == "downgrade";
    Change taken(session_, arguments_, goes_down ? "downgrade" : "change", hold_);
    solve::Request request = remedy.request;
    if (!remedy.enable.empty()) {
      const auto before = keys_of(request);
      session_.see_enabled(remedy.enable);
      restore_candidates(request, before);
      taken.enable_ = remedy.enable;
    }
    return taken.run(request);
  }

  using Keys = std::vector<std::vector<std::string>>;  // by target: name, version and architecture of each candidate
  Keys keys_of(const solve::Request& request) const {
    Keys keys;
    for (const solve::Target& target : request.install) {
      keys.emplace_back();
      for (const PackageId id : target.candidates) keys.back().push_back(key_of(id));
    }
    return keys;
  }
  std::string key_of(PackageId id) const {
    const Package& package = session_.universe().package(id);
    return package.title() + " " + package.arch;
  }
  /// Numbers of packages are of one universe: in another one they are looked for by what they are.
  void restore_candidates(solve::Request& request, const Keys& keys) const {
    for (std::size_t i = 0; i < request.install.size(); ++i) {
      std::vector<PackageId> found;
      for (const std::string& key : keys[i])
        for (const PackageId id : session_.universe().versions_of(key.substr(0, key.find(' '))))
          if (key_of(id) == key) found.push_back(id);
      if (found.size() != keys[i].size())
        throw Error(ErrorCode::Refused, "the repositories have changed since the remedy was tried", {},
                    "run the command again");
      request.install[i].candidates = found;
    }
  }

  /// Where wanted packages that nobody offers any more hold others back: what it would bring to let them go.
  void weigh_strays(const solve::Request& request) {
    const Universe& universe = session_.universe();
    if (!request.upgrade_all || request.drop_strays || session_.quiet()) return;
    const bool stray_in_the_way =
        std::any_of(planned_.plan.held_back.begin(), planned_.plan.held_back.end(), [&](const plan::HeldBack& one) {
          const auto id = one.by.empty() ? std::nullopt : universe.installed_of(one.by);
          if (!id || !universe.wanted(*id)) return false;
          const auto versions = universe.slot(*id);
          return std::none_of(versions.begin(), versions.end(), [&](PackageId v) { return universe.offered(v); });
        });
    if (!stray_in_the_way) return;
    solve::Request without = request;
    without.drop_strays = true;
    const auto answer = solve::solve(universe, without);
    const auto* selection = std::get_if<solve::Selection>(&answer);
    if (selection == nullptr) return;
    plan::Plan::WithoutStrays result = plan::weigh(universe, without, *selection);
    if (result.held_back >= planned_.plan.held_back.size()) return;
    planned_.plan.without_strays = std::move(result);
  }

  /// The plan is checked by code that is not the solver's, before anyone sees it.
  void check(const solve::Request& request, const solve::Selection& selection) const {
    const auto problems = plan::problems_of(session_.universe(), request, selection, planned_.plan);
    if (problems.empty()) return;
    throw Error(ErrorCode::Internal, "the plan does not hold: " + problems.front(), {},
                "nothing was changed; please report this with the output of `hambrel list`");
  }

  void make_plan(const solve::Request& request, const solve::Selection& selection) {
    const Universe& universe = session_.universe();
    std::set<PackageId> cached;
    const bool any_cached = session_.root().stat(repo::kPackageCache).has_value();
    for (const PackageId id : selection.chosen) {
      if (universe.is_installed(id)) continue;
      if (session_.file_reader(id) != nullptr || session_.kept(id) != nullptr ||
          (any_cached && !universe[id].offers.empty() &&
           repo::in_cache(session_.root(), universe.package(id), universe[id].offers.front())))
        cached.insert(id);
    }
    const std::string kind = planned_.plan.kind;
    planned_.plan = plan::make_plan(universe, request, selection, cached);
    planned_.plan.kind = kind;
  }

  /// What the search was measured by: for whoever asks with --verbose.
  static std::string told(const solve::Selection& selection) {
    std::string text = fmt::format("{} conflicts and {} steps of search; ", selection.conflicts, selection.steps);
    for (const solve::LevelValue& one : selection.levels)
      text += fmt::format("{} {}{}, ", text_of(one.level), one.value, one.proved ? "" : " (not proved)");
    text.resize(text.size() - 2);
    return text;
  }

  int nothing_to_do() const {
    if (session_.json()) {
      session_.screen().line(canonical({{"plan", to_json(planned_.plan)}, {"result", "nothing to do"}}));
      return 0;
    }
    if (session_.quiet()) return 0;
    session_.screen().line(planned_.plan.kind == "upgrade" && planned_.plan.held_back.empty()
                               ? "Nothing to do: everything is at its newest version."
                               : "Nothing to do: it is all as asked for.");
    print_held_back(session_, planned_.plan);
    return 0;
  }

  void plan_files() {
    std::vector<PackageId> coming;
    for (const plan::Step& step : planned_.plan.steps) {
      if (!step.brings_files()) continue;
      const Package& package = session_.universe().package(*step.after_id);
      if (const std::string feature = unknown_feature(package); !feature.empty())
        throw Error(ErrorCode::Refused,
                    fmt::format("{} needs an installer that knows \"{}\"", package.title(), printable(feature)), {},
                    "use a newer hambrel, or an older version of the package");
      coming.push_back(*step.after_id);
    }
    std::unique_ptr<state::State> empty;
    const state::State* state = session_.present();
    if (state == nullptr) {  // a dry run on a root without a state: as if it had an empty one
      empty = std::make_unique<state::State>();
      state = empty.get();
    }
    for (const plan::Step& step : planned_.plan.steps)
      if (step.before_id && !step.only_state())
        leaving_.push_back(state->package(session_.universe()[*step.before_id].installed->row));
    look_ahead(*state);
    tables_ = tables_of(session_, coming, &damaged_);
    for (plan::Step& step : planned_.plan.steps)
      if (step.after_id && std::find(damaged_.begin(), damaged_.end(), *step.after_id) != damaged_.end())
        step.download = session_.universe()[*step.after_id].offers.front().size;
    for (const PackageId id : coming)
      archive::require_named_privileges(*tables_.at(id), session_.universe().package(id),
                                        session_.universe().package(id).title());
    lists_ = std::async(kThread, [tables = tables_] {  // while it is planned
      std::map<PackageId, state::FileList> lists;
      for (const auto& [id, table] : tables) lists.emplace(id, state::FileList::of(table->entries));
      return lists;
    });
    for (const PackageId id : coming) {
      const state::StatePackage* const kept = session_.kept(id);
      if (kept != nullptr && !kept_) kept_.emplace(session_.root(), *session_.present(), state::TxnId{0});
      from_kept_.push_back(kept);
      entering_.push_back({session_.universe().package(id), tables_.at(id).get(), kept != nullptr ? &*kept_ : nullptr,
                           kept != nullptr && kept->shelved});
      planned_.sources.push_back({entering_.back().package, nullptr});
    }
    tree_options_.workers = os::processors();
    tree_options_.fetched = incoming_->missing();
    leave_behind(*state);
    plan_tree(*state);
    tree_options_.ahead.reset();
    if (planned_.tree.conflicts.empty() || arguments_.has("download-only")) return;
    settling_.emplace(session_, arguments_,
                      questions_of(session_, planned_.tree.conflicts, coming, tables_, planned_.plan));
    tree_options_.choices = settling_->decided();
    plan_tree(*state);
    for (plan::ConfigStep& step : planned_.plan.configs)
      if (settling_->open().contains(step.path)) step.action = plan::ConfigAction::Ask;
  }

  /// The files of what is replaced, most of which will be the same again.
  void look_ahead(const state::State& state) {
    std::vector<std::int64_t> rows;
    for (const plan::Step& step : planned_.plan.steps)
      if (step.before_id && step.brings_files()) rows.push_back(session_.universe()[*step.before_id].installed->row);
    tree_options_.ahead = std::make_shared<txn::LookAhead>(session_.root(), state, rows);
  }

  void plan_tree(const state::State& state) {
    planned_.tree = txn::plan_tree(session_.root(), state, leaving_, entering_, tree_options_);
    files_.emplace(session_);
    txn::complete(planned_, from_kept_, files_->file_of());
    planned_.tell_of_files();
    if (settling_)
      planned_.plan.notices.insert(planned_.plan.notices.end(), settling_->notices().begin(),
                                   settling_->notices().end());
    tell_of_privileges();
    tell_of_dangers();
    if (arguments_.has("strict")) refuse_unowned();
  }

  /// All questions about configuration, once, before the last one.
  void ask_about_configuration() {
    if (!settling_ || settling_->open().empty()) return;
    tree_options_.choices.merge(settling_->ask());
    plan_tree(*session_.present());
    weigh_retention(session_, planned_);
    print_configs(session_.screen(), planned_.plan.configs);
  }

  /// With --purge: edited configuration of what is removed, and what earlier versions of it have left behind.
  void leave_behind(const state::State& state) {
    if (!arguments_.has("purge")) return;
    solve::Names names(arguments_.words().begin(), arguments_.words().end());  // some may be gone already
    for (const plan::Step& step : planned_.plan.steps)
      if (step.action == plan::Action::Remove) names.insert(step.name);
    for (const state::StatePackage& one : leaving_)
      if (names.contains(one.package.name)) tree_options_.purge.insert(one.row);
    for (const txn::ConfigFile& one : txn::configuration_files(session_.root(), state))
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
        const auto list = session_.present()->files_of(old.row);
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
    const std::string reason = printable(arguments_.value("reason").value_or(""));
    Hold hold{os::now(), hold_until_, reason, os::user_name()};
    const bool held =
        one.installed->hold && (one.installed->hold->until == 0 || one.installed->hold->until > os::now());
    if (!held) return hold;
    if (!arguments_.has("until")) hold.until = one.installed->hold->until;
    if (!arguments_.has("reason")) hold.reason = one.installed->hold->reason;
    return hold;
  }

  /// Once: it takes what was made ready for it.
  std::vector<state::PackageChange> state_changes() {
    const Universe& universe = session_.universe();
    std::map<PackageId, state::FileList> lists = lists_.get();
    std::vector<state::PackageChange> changes;
    for (const plan::Step& step : planned_.plan.steps) {
      state::PackageChange change;
      change.name = step.name;
      if (step.before_id)
        change.before_row = universe[*step.before_id].installed->row,
        change.before = session_.present()->package(*change.before_row);
      if (step.only_state()) {
        change.after_row = change.before_row;
        change.after = change.before;
        change.after->reason = step.reason;
        if (step.action == plan::Action::Hold) change.after->hold = hold_for(universe[*step.before_id]);
        if (step.action == plan::Action::Release) change.after->hold.reset();
      } else if (const auto* const kept = step.after_id ? session_.kept(*step.after_id) : nullptr) {
        change.after_row = kept->row;
        change.after = *kept;
        if (kept->shelved) change.before_row = kept->row, change.before = *kept;
        change.after->shelved = false;
        change.after->reason = step.reason;
        if (!kept->shelved) change.after->hold = step.held ? hold_ : std::nullopt;
      } else if (step.after_id) {
        state::StatePackage after;
        after.package = universe.package(*step.after_id);
        after.reason = step.reason;
        after.origin = step.origin;
        after.digest = universe[*step.after_id].offers.front().digest;
        after.time = os::now();
        if (step.held) after.hold = hold_;
        change.after = std::move(after);
        change.files = std::move(lists.at(*step.after_id));
      }
      changes.push_back(std::move(change));
    }
    return changes;
  }

  std::optional<state::TxnId> carry_out() {
    txn::Account account = account_of(session_, arguments_, planned_.plan);
    for (const plan::Step& step : planned_.plan.steps)  // what is fetched while staging, a piece at a time
      if (step.after_id && session_.kept(*step.after_id) != nullptr) account.downloaded += step.download;
    txn::Engine engine(session_.environment());
    const std::int64_t started = os::now();
    try {
      incoming_->verify_outside();
    } catch (const Error& problem) {
      engine.record_failure(started, account, problem.what());
      throw;
    }
    for (const PackageId id : damaged_)
      if (const std::string path = repo::cache_path(session_.universe().package(id)); session_.root().stat(path))
        session_.root().remove_file(path);
    planned_.changes = state_changes();
    const os::InterruptGuard guard;
    for (bool again = false;; again = true) {
      bool handed_over = false;
      try {
        incoming_->open(planned_, tables_, guard);
        handed_over = true;
        return hand_over(session_, arguments_, planned_, account, guard);
      } catch (const Error& problem) {
        session_.progress().end();
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

  Session& session_;
  const Arguments& arguments_;
  txn::Planned planned_;
  std::optional<Hold> hold_;  // for what a downgrade names
  std::string enable_;        // the repository of a remedy: not enabled yet
  std::int64_t hold_until_ = 0;
  Incoming::Tables tables_;
  std::future<std::map<PackageId, state::FileList>> lists_;  // from the tables, for the state
  std::vector<PackageId> damaged_;                           // in the cache
  std::optional<txn::Kept> kept_;
  std::vector<const state::StatePackage*> from_kept_;  // by entering package; nullptr: not from there
  std::optional<PackageFiles> files_;
  txn::TreeOptions tree_options_;
  std::optional<Settling> settling_;
  std::vector<state::StatePackage> leaving_;
  std::vector<txn::Entering> entering_;
  std::optional<Incoming> incoming_;
};

}  // namespace

int carry_out_request(Session& session, const Arguments& arguments, const std::string& kind,
                      const solve::Request& request, const std::optional<Hold>& hold) {
  auto change = std::make_unique<Change>(session, arguments, kind, hold);
  const int code = change->run(request);
  // the process ends soon: to give back what it held piece by piece would take a twentieth of an upgrade
  [[maybe_unused]] static const Change* const held = change.release();
  return code;
}

int carry_out_mark(Session& session, const Arguments& arguments, plan::Action action, const solve::Names& names,
                   std::int64_t hold_until) {
  return Change(session, arguments, std::string(plan::text_of(action))).mark(action, names, hold_until);
}

}  // namespace hambrel::cli
