#include "txn/undo.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>
#include <string_view>
#include <unordered_map>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "os/neighbours.h"
#include "plan/plan_record.h"
#include "txn/attic_check.h"
#include "txn/choices.h"
#include "txn/directories_ahead.h"
#include "txn/moving.h"
#include "txn/present_packages.h"
#include "txn/shelve.h"
#include "txn/undo_lines.h"

namespace hambrel::txn {

using os::FileType;
using plan::Notice;
using state::Move;
using state::MoveKind;
using state::PackageChange;
using state::StatePackage;
using state::TxnId;

namespace {

class Undo {
 public:
  Undo(os::FileSystem& root, const state::State& state, TxnId id) : root_(root), state_(state), id_(id) {}

  Planned run() {
    check_entry();
    undo_.undo_of = id_;
    undo_.attic = fmt::format("{}/{}", kAttic, number(id_));
    undo_.plan.kind = "undo";
    const auto moves = state_.moves_of(id_);
    undo_.moves.reserve(moves.size());
    const auto homes = homes_with_files(moves);
    const bool there = std::all_of(homes.begin(), homes.end(), [&](const std::string& home) {
      return root_.stat(os::join_path(home, undo_.attic)).has_value();
    });
    if (!there)
      refuse("its files are no longer in the attic", "bring the packages back with `hambrel install NAME=VERSION`");
    look_ahead(moves);
    reverse_changes();
    find_ours();
    ahead_->stop();
    look_at_generated();
    anew_ = plan_lines_back(root_, state_, id_, moves, undo_);
    take_choices_back(state_, id_, undo_);
    check_set();
    attic_.emplace(root_, state_, id_, undo_.changes);
    for (auto move = moves.rbegin(); move != moves.rend(); ++move)
      if (!was_made_again(move->path) && !anew_.contains(move->path)) reverse(*move);
    restore_generated();
    tell_of_edits();
    tell_of_choices();
    for (const auto& time : state_.times_of(id_)) {
      const auto info = root_.stat(time.path);
      const bool untouched =
          info && info->mtime_seconds == time.after_seconds && info->mtime_nanoseconds == time.after_nanoseconds;
      if (!info || untouched) undo_.restore.push_back(time);  // a directory that comes back gets its old time, too
    }
    return std::move(undo_);
  }

 private:
  [[noreturn]] void refuse(const std::string& what, const std::string& hint) const {
    throw Error(ErrorCode::Refused, what, fmt::format("transaction {}", number(id_)), hint);
  }

  void check_entry() const {
    const auto entry = state_.ledger_entry(id_);
    if (!entry)
      throw Error(ErrorCode::NotFound, fmt::format("the ledger has no transaction {}", number(id_)), {},
                  "`hambrel ledger` lists them");
    if (entry->result != "done")
      refuse("it changed nothing, so there is nothing to undo", "`hambrel ledger` shows what was done");
    if (entry->kind == state::kRebuilding)
      refuse("it recreated the state, which cannot be undone", "the previous state is kept beside the new one");
    if (entry->kind == state::kGivingUp)
      refuse("it dropped files of earlier transactions from the attic, which cannot be undone",
             "`hambrel ledger` shows the other transactions");
    const auto by = state_.undone_by(id_);
    if (!by) {
      if (const auto given_up = state_.given_up(id_))
        refuse(fmt::format("its files are no longer in the attic: transaction {} dropped them", number(*given_up)),
               "bring the packages back with `hambrel install NAME=VERSION`");
      return;
    }
    if (const auto again = state_.undone_by(*by))
      refuse(fmt::format("it was undone by {} and done again by {}", number(*by), number(*again)),
             fmt::format("undo the later one: hambrel undo {}", number(*again)));
    refuse(fmt::format("it was already undone by transaction {}", number(*by)),
           fmt::format("to redo it: hambrel redo {}", number(id_)));
  }

  /// The newest transaction that changed a package.
  std::int64_t last_change_of(const std::string& name) const {
    for (const auto& entry : state_.ledger(SIZE_MAX >> 1U))
      for (const PackageChange& change : state_.changes_of(entry.id))
        if (change.name == name) return number(entry.id);
    return 0;
  }

  /// A directory that was placed goes as a whole where nothing else came into it.
  void look_ahead(const std::vector<Move>& moves) {
    std::vector<SharedText> placed;
    for (const Move& move : moves)
      if (move.kind == MoveKind::Place) placed.push_back(move.path);
    HAMBREL_ASSERT(!ahead_, "directories are looked at once");
    ahead_.emplace(root_, std::move(placed));
  }

  void reverse_changes() {
    installed_ = state_.installed();
    const PresentPackages here(installed_), shelf(state_.shelved());
    const auto changes = state_.changes_of(id_);
    for (auto change = changes.rbegin(); change != changes.rend(); ++change) {
      const bool there = here.has(*change);
      const bool on_shelf = shelf.has(*change);
      const bool to_shelf = change->after && change->after->shelved;
      const bool as_left = on_shelf == to_shelf && there == (change->after_row.has_value() && !to_shelf);
      if (!as_left) {
        const std::int64_t later = last_change_of(change->name);
        refuse(fmt::format("{} was changed again by transaction {}", change->name, later),
               fmt::format("undo that one first: hambrel undo {}", later));
      }
      PackageChange back = *change;
      std::swap(back.before_row, back.after_row);
      std::swap(back.before, back.after);
      if (back.after && back.after->shelved && back.before_row != back.after_row)
        require_on_shelf(root_, state_, *back.after);
      if (back.after_row) require_files_known(state_, *back.after, *back.after_row);
      if (back.before_row) leaving_rows_.insert(*back.before_row);
      undo_.plan.steps.push_back(step_of(back, {plan::WhyKind::Undone, std::to_string(number(id_)), ""}));
      undo_.changes.push_back(std::move(back));
    }
    HAMBREL_ASSERT(undo_.plan.steps.size() == changes.size(), "every change is told and taken back");
  }

  void find_ours() {
    for (const StatePackage& one : installed_) ours_.insert(one.row);
    for (std::int64_t id = number(state_.next_id()) - 1; id > number(id_); --id)
      for (const PackageChange& change : state_.changes_of(TxnId{id}))
        if (change.after_row && change.before_row != change.after_row) ours_.erase(*change.after_row);
    ours_.insert(leaving_rows_.begin(), leaving_rows_.end());
    std::set<std::int64_t> rows;
    for (const StatePackage& one : installed_)
      if (leaving_rows_.contains(one.row)) rows.insert(one.row);
    alone_ = state_.paths_of_one(rows);
  }

  /// The set of packages must hold together afterwards, as far as it does now.
  void check_set() const {
    std::vector<Candidate> all;
    std::set<std::int64_t> now_rows, then_rows;
    const auto add = [&](const StatePackage& one, std::int64_t row) {
      Candidate candidate;
      candidate.package = one.package;
      candidate.installed = Installed{row, one.reason, one.origin, one.time, one.digest, one.hold};
      all.push_back(std::move(candidate));
    };
    for (const StatePackage& one : installed_) {
      add(one, one.row);
      now_rows.insert(one.row);
      if (!leaving_rows_.contains(one.row)) then_rows.insert(one.row);
    }
    const auto comes = [](const PackageChange& change) { return change.after_row && !change.after->shelved; };
    for (const PackageChange& change : undo_.changes)
      if (comes(change) && !now_rows.contains(*change.after_row)) add(*change.after, *change.after_row);
    for (const PackageChange& change : undo_.changes)
      if (comes(change)) then_rows.insert(*change.after_row);
    HAMBREL_ASSERT(now_rows.size() == installed_.size(), "each has a row of its own");
    std::set<std::string> architectures;  // one version of each may be there
    for (const Candidate& one : all)
      if (!one.package.is_independent()) architectures.insert(one.package.arch);
    const Universe universe(all, {architectures.begin(), architectures.end()});
    std::vector<PackageId> now, then;
    for (const PackageId id : universe.installed()) {
      const std::int64_t row = universe[id].installed->row;
      if (now_rows.contains(row)) now.push_back(id);
      if (then_rows.contains(row)) then.push_back(id);
    }
    const auto caused = plan::problems_of(universe, then, now);
    if (!caused.empty())
      refuse("undoing it would break later changes: " + join(caused, "; "),
             "undo the later transactions first; `hambrel ledger` lists them");
  }

  /// What programs made then, and others have made again since, stays: what made it is run again instead, unless it
  /// goes. What a hook made is data, which comes back whatever became of it.
  void look_at_generated() {
    generated_ = state_.generated_changes_of(id_);
    std::set<std::string> leaving;
    for (const PackageChange& change : undo_.changes)
      if (change.before_row && !change.after_row) leaving.insert(change.name);
    std::set<std::pair<std::string, std::string>> again;
    for (const state::GeneratedChange& one : generated_) {
      const auto& made = one.after ? one.after : one.before;
      const auto now = state_.generated_at(one.path);
      const bool same = now.has_value() == one.after.has_value() && (!now || text_of(*now) == text_of(*one.after));
      if (same || !made->by_trigger || leaving.contains(made->package)) continue;
      made_again_.insert(one.path);
      again.emplace(made->package, made->program);
    }
    undo_.restores_all = again.empty() && state_.last_done() == id_;
    for (const state::RunRecord& run : state_.runs_of(id_))
      if (const std::pair key(run.package, run.program);
          !again.contains(key) && state_.last_run(run.package, run.program) == id_ && run.ended.empty())
        undo_.restored.insert(key);
  }

  static bool is_link(const state::GeneratedChange& one) {
    return (one.after ? one.after : one.before)->program == state::kCandidates;
  }
  /// Itself, or something below it.
  bool was_made_again(std::string_view path) const {
    if (made_again_.empty()) return false;
    const std::string below = os::join_path(path, "");
    const auto first = made_again_.lower_bound(below);
    return made_again_.contains(path) || (first != made_again_.end() && first->starts_with(below));
  }

  void restore_generated() {
    for (state::GeneratedChange& one : generated_) {
      if (was_made_again(one.path) || (is_link(one) && !undo_.restores_all)) continue;
      auto now = state_.generated_at(one.path);
      if (now || one.before) undo_.generated.push_back({one.path, std::move(now), std::move(one.before)});
    }
  }

  /// Edited configuration that goes to the attic with what is taken back.
  void tell_of_edits() {
    std::map<std::string, std::optional<Digest>> decided;  // what the transaction itself had put there
    for (const plan::ConfigStep& step : plan::decisions_of(state_.ledger_entry(id_)->record))
      decided.emplace(step.path, step.after);
    std::vector<FileEntry> files;
    for (const std::int64_t row : leaving_rows_)
      for (FileEntry& file : state_.configuration_of(row)) files.push_back(std::move(file));
    std::unordered_map<std::string_view, bool> moved;  // these, and the directories above them: there are fewer of them
    for (const FileEntry& file : files)
      for (std::string_view path = file.path; !path.empty(); path = os::parent_of(path)) moved.emplace(path, false);
    for (const Move& move : undo_.moves)
      if (const auto found = moved.find(move.path); found != moved.end() && move.kind != MoveKind::Attributes)
        found->second = true;
    const auto goes = [&](std::string_view path) {  // itself, or a directory above it
      while (!path.empty() && !moved.at(path)) path = os::parent_of(path);
      return !path.empty();
    };
    for (const FileEntry& file : files) {
      const auto here = root_.stat(file.path);
      if (!goes(file.path) || !here || here->type != FileType::Regular) continue;
      const Digest now = root_.digest(file.path);
      const auto as_decided = decided.find(file.path);
      if (now != file.digest && (as_decided == decided.end() || as_decided->second != now)) changed(file.path);
    }
  }

  /// What had been decided about configuration, and comes back to how it stood.
  void tell_of_choices() {
    const bool about_configs = undo_.changes.empty();
    for (plan::ConfigStep step : plan::decisions_of(state_.ledger_entry(id_)->record)) {
      if (step.changes_file()) {
        const auto here = root_.stat(step.path);
        const auto now =
            here && here->type == FileType::Regular ? std::optional(root_.digest(step.path)) : std::nullopt;
        if (now && now != step.after) changed(step.path);
        step.action = plan::ConfigAction::Restore;
        step.from.clear();
        step.leftover = false;
        step.after = step.before;
        step.before = now;
      } else if (about_configs) {
        step.action = step.action == plan::ConfigAction::Keep ? plan::ConfigAction::Wait : plan::ConfigAction::Keep;
      } else {
        continue;
      }
      undo_.plan.configs.push_back(std::move(step));
    }
  }

  void changed(std::string_view path) {
    if (noticed_.emplace(path).second) undo_.plan.notices.push_back({Notice::Kind::Changed, std::string(path), ""});
  }

  std::string place_of(const Move& move) const { return fmt::format("{}/{}/{}", move.home, undo_.attic, move.place); }

  /// `here`: what stands at the path. `kept`: what lies at the place.
  void add(MoveKind kind, const SharedText& path, const std::optional<os::FileInfo>& here, const Move& done,
           const SharedText& place, const std::optional<os::FileInfo>& kept = {}) {
    Move move;
    move.kind = kind;
    move.path = path;
    move.place = place;
    move.home = done.home;
    move.plain = true;
    const auto inode = [&](const std::optional<os::FileInfo>& info) {
      move.plain = move.plain && info && info->type != FileType::Directory;
      return info ? info->inode : 0;
    };
    if (kind != MoveKind::Place) {
      move.inode_old = inode(here);
      if (here && here->type != FileType::Directory) move.leaves = here->size;
    }
    if (kind != MoveKind::Remove) move.inode_new = inode(kept);
    HAMBREL_ASSERT(!path.empty() && !place.empty(), "a move leads somewhere");
    HAMBREL_ASSERT(kind != MoveKind::Attributes, "attributes are taken back where they stand");
    undo_.moves.push_back(std::move(move));
  }

  void reverse(const Move& done) {
    const auto here = in_place_.stat(done.path);
    switch (done.kind) {
      case MoveKind::Place:
        if (here) unplace(done, *here);
        return;
      case MoveKind::Exchange:
        bring_back(done, here);
        if (here && here->inode != done.inode_new) changed(done.path);
        return;
      case MoveKind::Remove:
        bring_back(done, here);
        if (here) changed(done.path);
        return;
      case MoveKind::Attributes: {
        if (!here || here->type != FileType::Directory) return;
        Move move = done;
        move.inode_old = here->inode;
        move.attributes = state::AttributesChange{{here->mode, here->uid, here->gid}, done.attributes_change().before};
        undo_.moves.push_back(std::move(move));
      }
    }
  }

  void look_up_configuration() {
    comes_back_.emplace();
    for (const PackageChange& change : undo_.changes)
      if (change.after_row && change.before_row != change.after_row)
        for (FileEntry& entry : state_.configuration_of(*change.after_row)) {
          std::string path = entry.path;
          comes_back_->insert_or_assign(std::move(path), std::move(entry));
        }
  }

  /// What waits must be of the version that is there then.
  void require_waiting_fits(const Move& done, const os::FileInfo& kept, const std::string& place) {
    const std::string waiting = waiting_place("");
    if (!done.path.view().starts_with(waiting) || kept.type != FileType::Regular) return;
    const std::string path(done.path.view().substr(waiting.size()));
    if (!comes_back_) look_up_configuration();
    std::optional<FileEntry> then;
    if (const auto found = comes_back_->find(path); found != comes_back_->end())
      then = found->second;
    else if (const auto owner = state_.owner_of(path, {}); owner && !leaving_rows_.contains(owner->package_row))
      then = owner->entry;
    if (then && root_.digest(place) == then->digest) return;
    refuse(fmt::format("the version of /{} that waited then is not the installed version's", path),
           "`hambrel ledger` shows what was done since: undo that first");
  }

  void bring_back(const Move& done, const std::optional<os::FileInfo>& here) {
    const std::string place = place_of(done);
    const auto kept = in_attic_.stat(place);
    if (!kept || kept->inode != done.inode_old)
      refuse(fmt::format("the attic no longer holds /{}", done.path),
             "bring the package back with `hambrel install NAME=VERSION`");
    attic_->require_unaltered(done, *kept, place, done.path.string());
    require_waiting_fits(done, *kept, place);
    const auto owner = alone_.contains(done.path) ? std::nullopt : state_.owner_of(done.path, ours_);
    if (owner && owner->entry.type != EntryType::Directory)
      refuse(fmt::format("/{} belongs to {} now", done.path, owner->package_name),
             fmt::format("remove {} first", owner->package_name));
    add(here ? MoveKind::Exchange : MoveKind::Place, done.path, here, done, done.place, kept);
  }

  /// What was placed goes back to its place in the attic: a whole directory at once if nothing else came into it.
  void unplace(const Move& done, const os::FileInfo& here) {
    if (here.inode != done.inode_new) changed(done.path);
    if (here.type != FileType::Directory) {
      if (!belongs_to_others(done.path)) add(MoveKind::Remove, done.path, here, done, done.place);
    } else if (only_ours(done.path.string())) {
      add(MoveKind::Remove, done.path, here, done, done.place);
    } else {
      remove_ours(done.path.string(), done);
    }
  }

  bool is_ours(const std::string& path) const {
    if (alone_.contains(path)) return true;
    const auto made =
        std::lower_bound(generated_.begin(), generated_.end(), path,
                         [](const state::GeneratedChange& one, const std::string& at) { return one.path < at; });
    const bool is_made = made != generated_.end() && made->path == path &&
                         (undo_.restores_all || !is_link(*made));  // links: see links.h
    if (is_made && !was_made_again(path)) return true;
    for (const std::string& aside : {waiting_place(""), base_place("")}) {
      if (aside.starts_with(path + "/")) return true;
      if (!path.starts_with(aside)) continue;  // what waits belongs to whom the configuration file belongs
      if (root_.stat_present(path).type == FileType::Directory) return true;
      return is_ours(path.substr(aside.size()));
    }
    return !belongs_to_others(path) && state_.owner_of(path, {});
  }

  bool belongs_to_others(std::string_view path) const {
    return !alone_.contains(path) && state_.owner_of(path, ours_).has_value();
  }

  /// Of a directory: is it, with all that is in it?
  bool only_ours(const std::string& top) const {
    return is_ours(top) && ahead_->all_below(
                               top, [&](std::string_view path) { return alone_.contains(path); },
                               [&](const std::string& path) { return is_ours(path); });
  }

  /// Piece by piece, deepest first; directories that hold something else stay.
  void remove_ours(const std::string& path, const Move& done) {
    bool foreign = false;
    for (const std::string& name : root_.list(path)) {
      const std::string child = os::join_path(path, name);
      if (!is_ours(child))
        foreign = true;
      else if (root_.stat_present(child).type == FileType::Directory && !only_ours(child))
        remove_ours(child, done);
      else
        add(MoveKind::Remove, child, in_place_.stat(child), done,
            fmt::format("apart-{}-{}", number(state_.next_id()), undo_.moves.size()));
    }
    if (!foreign) return;
    noticed_.insert(path);
    undo_.plan.notices.push_back({Notice::Kind::DirectoryStays, path, ""});
  }

  std::vector<state::GeneratedChange> generated_;  // of the transaction, by path
  std::set<std::string, std::less<>> made_again_, anew_, noticed_;
  std::optional<AtticCheck> attic_;
  std::optional<std::map<std::string, FileEntry>> comes_back_;  // configuration, by path
  os::FileSystem& root_;
  os::Looker in_place_{root_}, in_attic_{root_};  // nothing is moved while it is planned
  const state::State& state_;
  TxnId id_;
  std::vector<StatePackage> installed_;
  std::set<std::int64_t> leaving_rows_;
  state::PathStore::OfOneAlone alone_;  // of what leaves
  std::optional<DirectoriesAhead> ahead_;
  std::set<std::int64_t> ours_;  // these, and what was there before: what was put right of it is taken back in place
  Planned undo_;
};

}  // namespace

Planned plan_undo(os::FileSystem& root, const state::State& state, TxnId id) {
  const state::State::ReadTransaction still(state);
  return Undo(root, state, id).run();
}

}  // namespace hambrel::txn
