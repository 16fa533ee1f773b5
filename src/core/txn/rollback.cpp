#include "txn/rollback.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>
#include <set>
#include <unordered_set>

#include "base/assert.h"
#include "base/error.h"
#include "plan/plan_record.h"
#include "txn/attic_check.h"
#include "txn/checkpoint.h"
#include "txn/choices.h"
#include "txn/rollback_as_undo.h"
#include "txn/rollback_generated.h"
#include "txn/shelve.h"
#include "txn/undo.h"

namespace hambrel::txn {

using state::DirectoryTime;
using state::MoveKind;
using state::PackageChange;
using state::StatePackage;
using state::TxnId;

namespace {

class Rollback {
 public:
  Rollback(os::FileSystem& root, const state::State& state, TxnId to, const state::Checkpoint* checkpoint)
      : root_(root), state_(state), to_(to), checkpoint_(checkpoint) {}

  Planned run(const FileOf& file_of, unsigned workers) {
    if (checkpoint_ == nullptr && !state_.ledger_entry(to_))
      throw Error(ErrorCode::NotFound, fmt::format("the ledger has no transaction {}", number(to_)), {},
                  "`hambrel ledger` lists them");
    result_.plan.kind = "rollback";
    find_changes();
    put_choices_back(state_, to_, result_);
    Kept kept(root_, state_, to_);
    std::vector<StatePackage> leaving;
    std::vector<Entering> entering;
    std::vector<const StatePackage*> back;
    const auto differing = find_differences();
    for (const PackageChange& change : result_.changes) {
      const bool same = change.before_row == change.after_row;
      const bool was_here = change.before && !change.before->shelved, is_here = change.after && !change.after->shelved;
      if (same && was_here == is_here) continue;
      if (change.before && (was_here || !same)) {  // of what was shelved, configuration
        leaving.push_back(*change.before);
        leaving.back().shelved = same;
      }
      if (change.after && change.after->shelved && !(same && change.before->shelved) && !(same && was_here))
        require_on_shelf(root_, state_, *change.after);
      if (!is_here) continue;
      require_files_known(state_, *change.after, *change.after_row);
      const auto list = state_.files_of(*change.after_row);
      const auto some = differing.find(*change.after_row);
      entering.push_back(
          {change.after->package, some == differing.end() ? *list : list->only(some->second), &kept, same, true});
      result_.sources.push_back({change.after->package, nullptr});
      back.push_back(&*change.after);
    }
    HAMBREL_ASSERT(result_.sources.size() == entering.size() && back.size() == entering.size(),
                   "what comes has a source, and a row");
    look_for(kept, entering, workers);
    find_fates();
    result_.tree = plan_tree(root_, state_, leaving, entering,
                             {.workers = workers, .files_to_examine = differing, .leave = leave_, .asides = false});
    const std::size_t planned = result_.tree.moves.size();
    planned_.puts = result_.tree.puts.size();
    HAMBREL_ASSERT(result_.attic.empty() && result_.moves.empty(), "it is staged, whatever lies in which attic");
    settle_waiting(kept);
    look_up_planned();
    restore_decided(kept);
    if (checkpoint_ != nullptr) restore_configuration();
    drop_planned();
    std::sort(result_.tree.puts.begin(), result_.tree.puts.end(),
              [](const Put& a, const Put& b) { return a.entry.path() < b.entry.path(); });
    restore_generated(root_, state_, to_, kept, result_);
    source_missing_content(result_, back, file_of);
    if (result_.tree.moves.size() != planned || !without_moves_.empty()) require_feasible(root_, result_.tree);
    result_.tell_of_files();
    find_times();
    return std::move(result_);
  }

 private:
  /// B3. By row, of both sides of each package that is here and comes in another version: the files that are not alike.
  /// What is alike is left out, unless it is told of elsewhere in the change.
  FilesToExamine find_differences() const {
    struct Side {
      std::int64_t row;
      std::shared_ptr<const FileList> list;
      std::vector<std::size_t> differing;
    };
    std::vector<Side> sides;  // before, after, before, after
    std::unordered_set<std::string_view> named;
    std::vector<std::shared_ptr<const FileList>> others;
    const auto name = [&](const FileList& list) {
      for (std::size_t i = 0; i < list.size(); ++i) named.insert(list.path(i));
    };
    for (const PackageChange& change : result_.changes) {
      const bool here = change.before && !change.before->shelved, comes = change.after && !change.after->shelved;
      if (here && comes && change.before_row != change.after_row) {
        Side before{*change.before_row, state_.files_of(*change.before_row), {}};
        Side after{*change.after_row, state_.files_of(*change.after_row), {}};
        auto found = FileList::differences(*before.list, *after.list);
        before.differing = std::move(found.before);
        after.differing = std::move(found.after);
        sides.push_back(std::move(before));
        sides.push_back(std::move(after));
        continue;
      }
      for (const auto& row : {change.before_row, change.after_row})
        if (row) {
          others.push_back(state_.files_of(*row));
          name(*others.back());
        }
    }
    if (sides.size() > 2 || !named.empty()) {
      for (const Side& one : sides)
        for (const std::size_t i : one.differing) named.insert(one.list->path(i));
      for (Side& one : sides) {
        one.differing.clear();
        for (std::size_t i = 0; i < one.list->size(); ++i)
          if (named.contains(one.list->path(i))) one.differing.push_back(i);
      }
    }
    FilesToExamine result;
    for (Side& one : sides) result.emplace(one.row, std::move(one.differing));
    return result;
  }

  void look_for(Kept& kept, const std::vector<Entering>& entering, unsigned workers) {
    StagingHomes homes(root_);
    std::vector<std::pair<FileEntry, std::string>> wanted;
    for (const Entering& one : entering)
      for (std::size_t i = 0; i < one.files.size(); ++i)
        if (one.files.type(i) == EntryType::File && !one.files.config(i))
          wanted.emplace_back(one.files.entry(i), homes.of(one.files.path(i)));
    constexpr std::size_t kFew = 20;  // files that are not worth a thread
    kept.look_for(wanted, wanted.size() < kFew ? 1 : workers);
  }

  /// What is installed now, and what was then: walked back from now.
  void find_changes() {
    std::vector<StatePackage> now = state_.installed();
    for (StatePackage& one : state_.shelved()) now.push_back(std::move(one));
    std::map<std::int64_t, StatePackage> then;
    for (const StatePackage& one : now) then.emplace(one.row, one);
    for (std::int64_t id = number(state_.next_id()) - 1; id > number(to_); --id) {
      const auto entry = state_.ledger_entry(TxnId{id});
      if (!entry || entry->result != "done") continue;
      const auto changes = state_.changes_of(entry->id);
      for (auto change = changes.rbegin(); change != changes.rend(); ++change)
        if (change->after_row) then.erase(*change->after_row);
      for (const PackageChange& change : changes)
        if (change.before_row) then.insert_or_assign(*change.before_row, *change.before);
    }
    // what there was one version of, in the order of rows
    std::multimap<std::pair<std::string, std::string>, std::int64_t> rows;
    for (const auto& [row, one] : then)
      if (one.package.parallel == 1) rows.emplace(std::pair(one.package.name, one.package.arch), row);
    std::vector<StatePackage> leave;
    for (const StatePackage& one : now) {
      const auto before = then.find(one.row);
      if (before == then.end()) {
        leave.push_back(one);
        continue;
      }
      const StatePackage& old = before->second;
      if (old.reason != one.reason || old.hold != one.hold || old.shelved != one.shelved) add(one, old);
      then.erase(before);
    }
    for (const StatePackage& one : leave) {
      auto in_its_place = then.end();
      const auto [first, last] = rows.equal_range({one.package.name, one.package.arch});
      if (one.package.parallel == 1)
        for (auto row = first; row != last && in_its_place == then.end(); ++row) in_its_place = then.find(row->second);
      if (in_its_place == then.end()) {
        add(one, std::nullopt);
        continue;
      }
      StatePackage back = in_its_place->second;
      then.erase(in_its_place);
      if (is_same(one, back)) {  // put down twice: what is here does as well
        back.row = one.row;
        if (back.reason == one.reason && back.hold == one.hold && back.shelved == one.shelved) continue;
      }
      add(one, back);
    }
    for (const auto& [row, one] : then) add(std::nullopt, one);
    std::sort(result_.changes.begin(), result_.changes.end(),
              [](const PackageChange& a, const PackageChange& b) { return a.name < b.name; });
    for (const PackageChange& change : result_.changes)
      result_.plan.steps.push_back(step_of(change, {plan::WhyKind::RolledBack, std::to_string(number(to_)), ""}));
    HAMBREL_ASSERT(result_.plan.steps.size() == result_.changes.size(), "every change is told");
  }

  bool is_same(const StatePackage& a, const StatePackage& b) const {
    return a.package.version == b.package.version && a.digest == b.digest &&
           state_.files_of(a.row)->bytes() == state_.files_of(b.row)->bytes();
  }

  void add(const std::optional<StatePackage>& before, const std::optional<StatePackage>& after) {
    HAMBREL_ASSERT(before || after, "a change has a side");
    PackageChange change;
    change.name = (before ? before : after)->package.name;
    change.before = before;
    change.after = after;
    if (before) change.before_row = before->row;
    if (after) change.after_row = after->row;
    result_.changes.push_back(std::move(change));
  }

  /// B2: below kConfigs stands afterwards what stood there then. What transactions moved is known by inode numbers.
  void settle_waiting(const Kept& kept) {
    const auto move = [&](MoveKind kind, const std::string& path, const SharedText& home) {
      result_.tree.moves.push_back({kind, path, home});
    };
    for (const auto& [path, first] : kept.first_moves_in(kConfigs)) {
      HAMBREL_ASSERT(path == kConfigs || os::is_below(path, kConfigs), "only what waits is put back so");
      const auto here = root_.stat(path);
      if (first.kind == MoveKind::Place) {  // nothing stood there
        if (here) move(MoveKind::Remove, path, first.home);
        continue;
      }
      if ((here && here->inode == first.inode) || !root_.stat(os::parent_of(path))) continue;
      const auto place = kept.place_of(path, first.inode);
      const auto info = place ? root_.stat(*place) : std::nullopt;
      if (!info || info->type != os::FileType::Regular) continue;
      FileEntry entry;
      entry.path = path;
      entry.mode = info->mode;
      entry.size = info->size;
      entry.config = true;
      entry.mtime = info->mtime_seconds;
      entry.digest = root_.digest(*place);
      Put put{std::move(entry), Put::npos, {}, first.home};
      put.own_rest().kept = *place;
      result_.tree.puts.push_back(std::move(put));
      move(here ? MoveKind::Exchange : MoveKind::Place, path, first.home);
    }
  }

  std::optional<Digest> digest_at(const std::string& path) const {
    const auto here = root_.stat(path);
    return here && here->type == os::FileType::Regular ? std::optional(root_.digest(path)) : std::nullopt;
  }

  std::string owner_of(const std::string& path) const {
    const auto owner = state_.owner_of(path, {});
    return owner ? owner->package_name : "";
  }

  /// B6: configuration that transactions since have replaced, merged, carried or purged, and that nobody changed after
  /// that, stands as it did before the first of them; but not where another one had moved it before: then what stood
  /// there was not that of `to`, and the tree knows better.
  void find_fates() {
    std::map<std::string, Fate> all;
    for (std::int64_t id = number(to_) + 1; id < number(state_.next_id()); ++id) {
      const auto entry = state_.ledger_entry(TxnId{id});
      if (!entry || entry->result != "done") continue;
      for (const plan::ConfigStep& step : plan::decisions_of(entry->record))
        if (step.changes_file()) all.emplace(step.path, Fate{id, step.before, {}}).first->second.after = step.after;
    }
    if (all.empty()) return;
    TextMap<std::vector<std::string>> above;  // by the path itself and each directory above it
    for (const auto& [path, fate] : all)
      for (std::string_view top = path; !top.empty(); top = os::parent_of(top)) above[std::string(top)].push_back(path);
    for (std::int64_t id = number(to_) + 1; id < number(state_.next_id()); ++id) {
      if (state_.given_up(TxnId{id}))  // what it moved is not known any more
        for (auto& [path, fate] : all) fate.unknown = fate.unknown || id < fate.id;
      for (const state::Move& move : state_.moves_of(TxnId{id})) {
        const auto concerned = above.find(move.path);
        if (concerned == above.end() || move.kind == MoveKind::Attributes) continue;
        for (const std::string& path : concerned->second)
          if (const auto fate = all.find(path); fate != all.end() && id < fate->second.id && !fate->second.unknown)
            all.erase(fate);
      }
    }
    if (checkpoint_ != nullptr)  // what it has, it restores itself
      for (const state::CheckpointFile& file : checkpoint_->files) all.erase(file.path);
    for (const auto& [path, fate] : all) {
      const auto now = digest_at(path);
      const auto owner = state_.owner_of(path, {});
      const bool pristine = owner && now == owner->entry.digest;
      if ((now != fate.after && !pristine) || (now == fate.before && !fate.unknown)) continue;
      fates_.emplace(path, fate).first->second.edited = now && !pristine;
      if (!fate.before && !fate.unknown) leave_.insert(path);
    }
  }

  void restore_decided(const Kept& kept) {
    for (const auto& [path, fate] : fates_) {
      if (fate.unknown) {  // perhaps it stood there just so, perhaps another edited version did, or nothing
        if (fate.edited || (fate.before && !find_pristine(root_, *fate.before)))
          result_.tree.notices.push_back({plan::Notice::Kind::ConfigUnknown, path, owner_of(path)});
        continue;
      }
      if (!fate.before) {
        leave_away(path);
        continue;
      }
      if (const auto place = kept.find_content(path, *fate.before))
        put_back(path, *place, root_.stat_present(*place));
      else
        result_.tree.notices.push_back({plan::Notice::Kind::Lost, path, owner_of(path)});
    }
  }

  /// What the tree has planned is looked up by path from here on, and dropped at the end of it: there may be as much
  /// configuration as there are moves.
  void look_up_planned() {
    if (fates_.empty() && checkpoint_ == nullptr) return;
    const auto& moves = result_.tree.moves;
    planned_.moves = moves.size();
    planned_.configs = result_.tree.configs.size();
    for (std::size_t i = 0; i < moves.size(); ++i) by_path_.push_back(i);
    std::sort(by_path_.begin(), by_path_.end(), [&](auto a, auto b) { return moves[a].path < moves[b].path; });
    const auto& puts = result_.tree.puts;
    for (std::size_t i = planned_.puts; i < puts.size(); ++i) added_puts_.emplace(puts[i].entry.path(), i);
  }
  void drop_planned() {
    TreeChange& tree = result_.tree;
    const auto drop = [](auto& all, std::size_t planned, const std::set<std::string, std::less<>>& paths) {
      const auto last = all.begin() + static_cast<std::ptrdiff_t>(planned);
      if (!paths.empty())
        all.erase(std::remove_if(all.begin(), last, [&](const auto& one) { return paths.contains(one.path); }), last);
    };
    drop(tree.moves, planned_.moves, without_moves_);
    drop(tree.configs, planned_.configs, without_configs_);
    drop(tree.notices, tree.notices.size(), without_notices_);
  }

  /// Is there a move of it, of this kind where one is given?
  bool moves_at(std::string_view path, std::optional<MoveKind> kind = {}) const {
    const auto is_it = [&](MoveKind other) { return !kind || other == *kind; };
    if (const auto added = added_moves_.find(path); added != added_moves_.end() && is_it(added->second)) return true;
    if (without_moves_.contains(path)) return false;
    const auto& moves = result_.tree.moves;
    auto at = std::lower_bound(by_path_.begin(), by_path_.end(), path,
                               [&](std::size_t one, std::string_view other) { return moves[one].path < other; });
    for (; at != by_path_.end() && moves[*at].path == path; ++at)
      if (is_it(moves[*at].kind)) return true;
    return false;
  }
  void add_move(MoveKind kind, const std::string& path, const SharedText& home) {
    result_.tree.moves.push_back({kind, path, home});
    added_moves_.emplace(path, kind);
  }

  /// Nothing stood there then.
  void leave_away(const std::string& path) {
    without_notices_.insert(path);
    if (moves_at(path)) return;
    const auto now = digest_at(path);
    if (!now) return;
    add_move(MoveKind::Remove, path, homes_.of(path));
    result_.tree.configs.push_back({plan::ConfigAction::Restore, path, owner_of(path), "", now, std::nullopt});
  }

  /// Does a directory above it go?
  bool goes_above(std::string_view path) const {
    for (std::string_view above = os::parent_of(path); !above.empty(); above = os::parent_of(above))
      if (moves_at(above, MoveKind::Remove)) return true;
    return false;
  }

  /// What is put there: what was planned stands by path, what came to it since does not.
  Put* put_at(std::string_view path) {
    auto& puts = result_.tree.puts;
    const auto last = puts.begin() + static_cast<std::ptrdiff_t>(planned_.puts);
    const auto found = std::lower_bound(
        puts.begin(), last, path, [](const Put& one, std::string_view other) { return one.entry.path() < other; });
    if (found != last && found->entry.path() == path) return &*found;
    const auto added = added_puts_.find(path);
    return added == added_puts_.end() ? nullptr : &puts[added->second];
  }

  /// Configuration as it stood, whatever the tree had planned for it. Its content lies at `place`.
  void put_back(const std::string& path, const std::string& place, const os::FileInfo& was) {
    without_notices_.insert(path);
    Put* put = put_at(path);
    const auto here = root_.stat(path);
    const auto now = digest_at(path);
    if (put == nullptr) {
      if (here && here->type == os::FileType::Directory) return;         // it is something else by now
      if (!root_.stat(os::parent_of(path)) || goes_above(path)) return;  // its directory is gone, and not coming back
      without_moves_.insert(path);
      FileEntry file;
      file.path = path;
      file.config = true;
      added_puts_.emplace(path, result_.tree.puts.size());
      result_.tree.puts.push_back({std::move(file), Put::npos, {}, homes_.of(path)});
      put = &result_.tree.puts.back();
      add_move(here ? MoveKind::Exchange : MoveKind::Place, path, put->home());
    }
    HAMBREL_ASSERT(put->entry.path() == path, "it is put there");
    put->own_rest().kept = place;
    FileEntry entry = put->entry.whole();
    entry.digest = root_.digest(place);
    entry.size = was.size;
    entry.mode = was.mode;
    entry.mtime = was.mtime_seconds;
    entry.user = std::to_string(was.uid);
    entry.group = std::to_string(was.gid);
    entry.attributes = own_attributes(root_, place);
    put->entry = std::move(entry);
    put->own_rest().group.reset();
    put->own_rest().default_acl.clear();
    result_.tree.configs.push_back({plan::ConfigAction::Restore, path, owner_of(path), "", now, put->entry.digest()});
  }

  /// What the administrator had written when the checkpoint was made.
  void restore_configuration() {
    for (const state::CheckpointFile& file : checkpoint_->files) {
      const std::string place = place_of(*checkpoint_, file.path);
      auto copy = root_.stat(place);
      if (!copy || root_.digest(place) != file.digest)
        throw Error(ErrorCode::Refused, fmt::format("the checkpoint's copy of /{} is damaged", file.path),
                    root_.shown(place), fmt::format("roll back without it: hambrel rollback {}", number(to_)));
      without_configs_.insert(file.path);
      without_notices_.insert(file.path);
      if (put_at(file.path) == nullptr && digest_at(file.path) == file.digest) continue;
      copy->size = file.size;
      copy->uid = file.uid;
      copy->gid = file.gid;
      put_back(file.path, place, *copy);
    }
  }

  /// Directories whose entries only transactions changed since get the times back that they had then.
  void find_times() {
    std::map<std::string, DirectoryTime> touched;
    for (std::int64_t id = number(to_) + 1; id < number(state_.next_id()); ++id)
      for (const DirectoryTime& time : state_.times_of(TxnId{id})) {
        DirectoryTime& whole = touched.emplace(time.path, time).first->second;
        whole.after_seconds = time.after_seconds;
        whole.after_nanoseconds = time.after_nanoseconds;
      }
    for (const auto& [path, time] : touched) {
      const auto info = root_.stat(path);
      if (!info || (info->mtime_seconds == time.after_seconds && info->mtime_nanoseconds == time.after_nanoseconds))
        result_.restore.push_back(time);
    }
  }

  os::FileSystem& root_;
  const state::State& state_;
  TxnId to_;
  const state::Checkpoint* checkpoint_;
  StagingHomes homes_{root_};
  struct Fate {
    std::int64_t id;  // of the first transaction that decided about it
    std::optional<Digest> before, after;
    bool unknown = false;  // whether one before it had moved it is not known any more
    bool edited = false;   // what stands there now is not as its package brings it
  };
  std::map<std::string, Fate> fates_;  // by path
  std::set<std::string> leave_;        // of these, those where nothing stood
  struct {
    std::size_t puts = 0, moves = 0, configs = 0;
  } planned_;                                                   // so many the tree had before configuration came to it
  std::vector<std::size_t> by_path_;                            // its moves
  std::map<std::string, MoveKind, std::less<>> added_moves_;    // what came to it, by path
  std::map<std::string, std::size_t, std::less<>> added_puts_;  // the same: by path, index into the puts
  std::set<std::string, std::less<>> without_moves_, without_configs_,
      without_notices_;  // paths of which what it had is dropped
  Planned result_;
};

}  // namespace

Planned plan_rollback(os::FileSystem& root, const state::State& state, TxnId to, const FileOf& file_of,
                      unsigned workers) {
  if (auto quick = as_undo(root, state, to)) return std::move(*quick);
  return Rollback(root, state, to, nullptr).run(file_of, workers);
}

Planned plan_rollback(os::FileSystem& root, const state::State& state, const state::Checkpoint& to,
                      const FileOf& file_of, unsigned workers) {
  return Rollback(root, state, to.after, &to).run(file_of, workers);
}

}  // namespace hambrel::txn
