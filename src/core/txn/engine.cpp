#include "txn/engine.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <span>
#include <unordered_set>

#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "os/neighbours.h"
#include "txn/ledger_copy.h"

namespace hambrel::txn {

using state::DirectoryTime;
using state::Journal;
using state::LedgerEntry;
using state::Move;
using state::MoveKind;
using state::TxnId;

namespace {

constexpr std::size_t kFew = 200, kFewSyncs = 20;  // things to look at, directories to sync: not worth a thread

std::string stage_of(TxnId id) { return fmt::format("{}/{}", kStage, number(id)); }
std::string attic_of(TxnId id) { return fmt::format("{}/{}", kAttic, number(id)); }
constexpr std::string_view kPrepared = "prepared-";  // and its number: a stage that waits to be activated
std::string stage_of_prepared(std::int64_t id) { return fmt::format("{}/{}{}", kStage, kPrepared, id); }

}  // namespace

LedgerEntry Engine::entry(TxnId id, std::int64_t started, const Account& account) const {
  LedgerEntry entry;
  entry.id = id;
  entry.started = started;
  entry.ended = env_.now();
  entry.user = account.user, entry.command = account.command, entry.kind = account.kind, entry.note = account.note;
  entry.plan = account.plan;
  entry.downloaded = account.downloaded;
  entry.result = "done";
  return entry;
}

void Engine::record_failure(std::int64_t started, const Account& account, const std::string& problem) {
  LedgerEntry failed = entry(env_.state.next_id(), started, account);
  failed.result = "failed";
  failed.problem = problem;
  try {
    env_.state.record(failed, {});
    copy();
  } catch (...) {  // the first problem is the one to be told; this one is told beside it
    env_.observer.note(fmt::format("the failure could not be written to the ledger: {}", current_error().what()));
  }
}

TxnId Engine::give_up(const std::vector<TxnId>& attics, const Account& account) {
  const LedgerEntry done = entry(env_.state.next_id(), env_.now(), account);
  env_.state.record(done, {}, attics);
  env_.after_step("committed");
  tidy_up();
  env_.after_step("done");
  return done.id;
}

void Engine::go_on() const {
  if (env_.stop_asked()) throw Error(ErrorCode::Declined, "stopped as you asked; nothing was changed");
}

namespace {

std::optional<ByteCount> size_of_attic(const std::vector<Move>& moves) {
  ByteCount bytes = 0;
  for (const Move& move : moves) {
    if (move.kind != MoveKind::Exchange && move.kind != MoveKind::Remove) continue;
    if (!move.leaves) return std::nullopt;
    bytes += *move.leaves;
  }
  return moves.empty() ? std::nullopt : std::optional(bytes);
}

}  // namespace

/// STAGED, from what was planned; nothing has to be staged for what lies in an attic.
Transaction Engine::make_ready(const Planned& planned, const Account& account, const std::string& directory) {
  Transaction ready;
  ready.account = account;
  ready.account.undo_of = planned.undo_of;
  ready.changes = planned.changes, ready.restore = planned.restore, ready.gives_up = planned.gives_up;
  Journal& journal = ready.journal;
  journal.id = env_.state.next_id();
  journal.directory = planned.attic.empty() ? directory : planned.attic;
  journal.started = env_.now();
  journal.kind = account.kind, journal.command = account.command, journal.user = account.user;
  if (!planned.attic.empty()) {
    require_ways(planned.moves);
    journal.moves = planned.moves;
    ready.attic = size_of_attic(journal.moves);
    go_on();
    return ready;
  }
  const auto arrive = [&] {
    if (!planned.arrival) return;
    ready.account.downloaded += planned.arrival();
    env_.after_step("arrived");
  };
  try {
    if (planned.tree.moves.empty()) {  // it concerns no file
      keep_pristine(planned.tree, planned.sources);
      arrive();
      go_on();
      return ready;
    }
    require_feasible(env_.root, planned.tree, env_.workers);  // again: time has passed since the plan
    const Places places(planned.tree);
    stage(planned.tree, planned.sources, directory, places);
    journal.moves = resolve_moves(planned.tree, directory, places);
    ready.attic = size_of_attic(journal.moves);
    env_.after_step("staged");
    arrive();
    go_on();
  } catch (...) {
    const Error problem = current_error();
    remove_stages(directory);
    record_failure(journal.started, account, problem.what());
    throw problem;
  }
  return ready;
}

TxnId Engine::run(const Planned& planned, const Account& account) {
  return switch_over(make_ready(planned, account, stage_of(env_.state.next_id())), std::nullopt);
}

state::Prepared Engine::prepare(const Planned& planned, const Account& account) {
  if (const auto standing = env_.state.prepared())
    throw Error(ErrorCode::Refused, fmt::format("something is prepared already: {}", standing->command), {},
                "`hambrel activate` switches to it, `hambrel activate --discard` drops it");
  state::Prepared prepared;
  prepared.id = env_.state.next_prepared();
  const std::string directory = stage_of_prepared(prepared.id);
  Transaction ready = make_ready(planned, account, directory);
  try {
    os::Looker looker(env_.root);
    for (const Move& move : ready.journal.moves)
      if (move.kind != MoveKind::Attributes) ready.witnesses.push_back(witness_of(looker, move.path));
    prepared.time = env_.now();
    prepared.after = env_.state.last_done();
    prepared.kind = account.kind, prepared.command = account.command;
    prepared.user = account.user, prepared.note = account.note, prepared.plan = account.plan;
    prepared.staged = planned.tree.staged_bytes;
    sync(ready.journal.moves);  // I2, before anybody is told that it is prepared
    env_.after_step("synced");
    env_.state.prepare(prepared, ready.changes, [&] { return encode(ready); });
  } catch (...) {
    const Error problem = current_error();
    remove_stages(directory);
    record_failure(ready.journal.started, account, problem.what());
    throw problem;
  }
  env_.after_step("prepared");
  return prepared;
}

/// None leads through a link that others than root can change.
void Engine::require_ways(const std::vector<Move>& moves) {
  std::string_view asked;
  for (const Move& move : moves) {
    if (const auto parent = os::parent_of(move.path); parent != asked) {
      require_way(env_.root, move.path);
      asked = parent;
    }
  }
}

/// Is the root still what it was when the transaction was prepared, as far as that matters?
void Engine::require_unmoved(const state::Prepared& prepared, const std::vector<Witness>& witnesses) {
  const std::string hint = "`hambrel activate --discard` drops it; then prepare it anew";
  if (const TxnId last = env_.state.last_done(); last != prepared.after)
    throw Error(ErrorCode::Refused,
                fmt::format("the system has moved since this was prepared: transaction {} was done ({})", number(last),
                            env_.state.ledger_entry(last)->kind),
                {}, hint);
  in_portions(witnesses.size(), env_.workers, kFew, [&](std::size_t first, std::size_t last) {
    os::Looker looker(env_.root);
    for (std::size_t i = first; i < last; ++i)
      if (const Witness& before = witnesses[i]; witness_of(looker, before.path) != before)
        throw Error(ErrorCode::Refused, "this was changed by somebody since the transaction was prepared",
                    "/" + before.path, hint);
  });
}

TxnId Engine::activate(const state::Prepared& prepared) {
  Transaction ready = decode(env_.state.prepared_value(prepared.id), env_.state);
  require_unmoved(prepared, ready.witnesses);
  Journal& journal = ready.journal;
  journal.id = env_.state.next_id();
  journal.started = env_.now();
  journal.kind = ready.account.kind, journal.command = ready.account.command, journal.user = ready.account.user;
  require_homes(journal);
  return switch_over(std::move(ready), prepared.id);
}

void Engine::discard(const state::Prepared& prepared) {
  env_.state.drop_prepared(prepared.id);
  tidy_up();
}

/// The directories of the move before: most moves lead from the same one to the same one.
struct Engine::Moving {
  explicit Moving(os::FileSystem& root) : in_stage(root), in_place(root) {}
  os::LastDirectory in_stage, in_place;
};

/// JOURNALED, SWITCHED, COMMITTED. `prepared`: from PREPARED, whose files are on the disk already.
TxnId Engine::switch_over(Transaction transaction, std::optional<std::int64_t> prepared) {
  Journal& journal = transaction.journal;
  const Account& account = transaction.account;
  try {
    journal.times = touched_directories(journal.moves, transaction.restore);
    // I2: what is staged, and at the least the directories that take what leaves, before the journal names them
    auto synced = meanwhile([&] {
      if (!prepared) sync(journal.moves);
    });
    env_.state.write_journal(journal, [&] {
      synced.get();
      env_.after_step("synced");
    });
  } catch (...) {
    const Error problem = current_error();
    tidy_up();
    record_failure(journal.started, account, problem.what());
    throw problem;
  }
  try {
    env_.after_step("journaled");
    Moving moving(env_.root);
    for (const Move& move : journal.moves) {
      do_move(move, journal.directory, moving);
      env_.after_step("moved");
    }
    for (const DirectoryTime& time : transaction.restore)
      if (env_.root.stat(time.path)) env_.root.set_mtime(time.path, time.before_seconds, time.before_nanoseconds);
    in_portions(journal.times.size(), env_.workers, kFew, [&](std::size_t first, std::size_t last) {
      os::Looker looker(env_.root);
      for (DirectoryTime& time : std::span(journal.times).subspan(first, last - first))
        if (const auto info = looker.stat(time.path))
          time.after_seconds = info->mtime_seconds, time.after_nanoseconds = info->mtime_nanoseconds;
    });
    remember_put_away(journal);
    auto synced = meanwhile([&] { sync_moved(journal, transaction.restore); });
    LedgerEntry done = entry(journal.id, journal.started, account);
    done.undo_of = account.undo_of;
    env_.state.commit(done, transaction.changes,
                      {&journal.moves, journal.times, transaction.gives_up, transaction.attic, prepared}, [&] {
                        synced.get();
                        env_.after_step("switched");
                      });
  } catch (...) {  // whatever it is
    const Error problem = current_error();
    take_back_after(problem, journal.id);
    throw problem;
  }
  env_.after_step("committed");
  tidy_up();
  env_.after_step("done");
  return journal.id;
}

/// When what was put away was changed last: by its move, unless somebody changes it later.
void Engine::remember_put_away(Journal& journal) {
  in_portions(journal.moves.size(), env_.workers, kFew, [&](std::size_t first, std::size_t last) {
    os::Looker looker(env_.root);
    for (Move& move : std::span(journal.moves).subspan(first, last - first)) {
      if (move.kind != MoveKind::Exchange && move.kind != MoveKind::Remove) continue;
      const auto info = looker.stat(place_of(move, journal.directory));
      if (info) move.put_away_seconds = info->changed_seconds, move.put_away_nanoseconds = info->changed_nanoseconds;
    }
  });
}

/// Syncing, while the state puts together what must not hold before that is done. With one thread it waits for get().
std::future<void> Engine::meanwhile(const std::function<void()>& sync) const {
  return std::async(env_.workers > 1 ? kThread : std::launch::deferred, sync);
}

/// After a failure in the middle: back to how it was, by the journal. If even that fails, both problems are told.
void Engine::take_back_after(const Error& problem, TxnId id) {
  try {
    const auto standing = env_.state.journal();
    if (standing && standing->id == id) take_back(*standing, "failed", problem.what());
  } catch (...) {
    const Error also = current_error();
    throw Error(ErrorCode::Unrecovered,
                fmt::format("the transaction failed ({}) and could not be taken back yet ({})", problem.problem(),
                            also.problem()),
                also.where(), "mend the cause, then run `hambrel recover`: the journal knows what is to be done");
  }
  tidy_up();
}

/// settle_directories() where nothing depends on it: what it leaves undone the next start finishes.
void Engine::tidy_up() {
  try {
    settle_directories();
  } catch (...) {
    env_.observer.note(fmt::format("{}; `hambrel recover` finishes the tidying up", current_error().what()));
  }
  copy();
}

/// The ledger's copy is for bad days; on good ones nothing depends on it.
void Engine::copy() {
  try {
    copy_ledger(env_.root, env_.state);
  } catch (...) {
    env_.observer.note(
        fmt::format("the ledger could not be copied: {}; the next start tries again", current_error().what()));
  }
}

/// Every file system that the moves are about, and that of the state.
void Engine::sync(const std::vector<Move>& moves) {
  std::set<std::string> homes{kHome};
  for (const Move& move : moves) homes.insert(move.home);
  for (const std::string& home : homes) env_.root.sync_all(existing_directory(env_.root, home));
}

/// What the moves have changed: where it is little, these directories alone, so that the switch does not wait for what
/// others have written to the same file system.
void Engine::sync_moved(const Journal& journal, const std::vector<DirectoryTime>& restore) {
  constexpr std::size_t kMost = 1000;  // directories
  std::set<std::string> changed;
  std::unordered_set<std::string_view> moved;
  for (const Move& move : journal.moves) {
    if (move.kind == MoveKind::Attributes || changed.size() > kMost) return sync(journal.moves);
    changed.emplace(os::parent_of(move.path));
    changed.emplace(os::parent_of(place_of(move, journal.directory)));
    moved.insert(move.path);
  }
  for (const std::string& path : changed)  // under its path another directory may stand now, or none
    for (std::string_view above = path; !above.empty(); above = os::parent_of(above))
      if (moved.contains(above)) return sync(journal.moves);
  for (const DirectoryTime& time : restore)
    if (const auto info = env_.root.stat(time.path); info && info->type == os::FileType::Directory)
      changed.insert(time.path);
  const std::vector<std::string> directories(changed.begin(), changed.end());
  in_portions(directories.size(), env_.workers, kFewSyncs, [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) env_.root.sync_directory(directories[i]);
  });
}

std::string Engine::place_of(const Move& move, const std::string& directory) {
  return fmt::format("{}/{}/{}", move.home, directory, move.place);
}

void Engine::do_move(const Move& move, const std::string& directory, Moving& moving) {
  if (move.kind == MoveKind::Attributes)
    return give(moving.in_place.of(move.path), os::name_of(move.path), move.inode_old, move.after);
  const std::string place = place_of(move, directory);
  os::Directory &stage = moving.in_stage.of(place), &there = moving.in_place.of(move.path);
  const auto staged = os::name_of(place), name = os::name_of(move.path);
  if (move.kind == MoveKind::Exchange)
    stage.rename_exchange(staged, there, name);
  else if (move.kind == MoveKind::Place)
    stage.rename_no_replace(staged, there, name);
  else
    there.rename_no_replace(name, stage, staged);
  if (!move.plain) moving.in_stage.forget(), moving.in_place.forget();
}

/// Owner, where this process may set it, and mode, of the directory that was planned for and no other.
void Engine::give(os::Directory& parent, std::string_view name, std::uint64_t inode,
                  const state::DirectoryAttributes& attributes) const {
  const auto owner = env_.set_owners ? std::optional(os::Owner{attributes.uid, attributes.gid}) : std::nullopt;
  parent.set_attributes(name, inode, owner, attributes.mode);
}

/// Takes one move back if it was done. Asks the disk, never memory (I3). What its owner has put a link in the way of is
/// his: root does not follow, and nobody else waits for it.
bool Engine::take_back(const Move& move, const std::string& directory) {
  if (const auto link = env_.root.strange_link(move.path)) {
    env_.observer.note(
        fmt::format("{}: other users can change this symbolic link; /{} is left as it is", *link, move.path));
    return false;
  }
  const std::string place = place_of(move, directory);
  const auto inode_at = [&](const std::string& path) {
    const auto info = env_.root.stat(path);
    return info ? info->inode : 0;
  };
  switch (move.kind) {
    case MoveKind::Place:
      if (inode_at(move.path) != move.inode_new) return false;
      env_.root.rename_no_replace(move.path, place);
      return true;
    case MoveKind::Exchange:
      if (inode_at(move.path) != move.inode_new || inode_at(place) != move.inode_old) return false;
      env_.root.rename_exchange(place, move.path);
      return true;
    case MoveKind::Remove:
      if (inode_at(place) != move.inode_old) return false;
      env_.root.rename_no_replace(place, move.path);
      return true;
    case MoveKind::Attributes: {
      const auto now = env_.root.stat(move.path);
      if (!now || now->type != os::FileType::Directory) return false;
      if (move.inode_old != 0 && now->inode != move.inode_old) return false;
      give(*env_.root.open_directory(os::parent_of(move.path)), os::name_of(move.path), now->inode, move.before);
      return true;
    }
  }
  return false;
}

Engine::Recovered Engine::take_back(const Journal& journal, const std::string& result, const std::string& problem) {
  Recovered recovered;
  recovered.id = journal.id, recovered.kind = journal.kind, recovered.command = journal.command;
  recovered.started = journal.started, recovered.moves = journal.moves.size();
  require_homes(journal);
  for (auto move = journal.moves.rbegin(); move != journal.moves.rend(); ++move)
    if (take_back(*move, journal.directory)) ++recovered.moves_taken_back;
  for (const DirectoryTime& time : journal.times)
    if (!env_.root.strange_link(time.path) && env_.root.stat(time.path))
      env_.root.set_mtime(time.path, time.before_seconds, time.before_nanoseconds);
  sync(journal.moves);
  LedgerEntry back;
  back.id = journal.id;
  back.started = journal.started, back.ended = env_.now();
  back.user = journal.user, back.command = journal.command, back.kind = journal.kind;
  back.result = result, back.problem = problem;
  env_.state.close_taken_back(back);
  return recovered;
}

/// A file system that is not mounted looks like one on which nothing was done.
void Engine::require_homes(const Journal& journal) {
  std::set<std::string> homes;
  for (const Move& move : journal.moves)
    if (move.kind != MoveKind::Attributes) homes.insert(move.home);
  for (const std::string& home : homes)
    if (const std::string own = os::join_path(home, journal.directory); !env_.root.stat(own))
      throw Error(ErrorCode::Io, "is not there, though the transaction has its files in it", env_.root.shown(own),
                  "mount the file system that it lies on");
}

std::optional<Engine::Recovered> Engine::recover() {
  std::optional<Recovered> recovered;
  if (const auto journal = env_.state.journal())
    recovered = take_back(*journal, "taken back", "interrupted before it was complete; everything was put back");
  settle_directories();
  copy();
  return recovered;
}

/// After a commit the transaction's directories become its attic; stages that nothing names go. Idempotent (I6).
void Engine::settle_directories() {
  if (const auto journal = env_.state.journal()) return;  // in doubt: nothing is cleaned
  std::string from, attic;
  if (const auto last = env_.state.ledger(1); !last.empty() && last[0].result == "done") {
    attic = attic_of(last[0].id);
    from = last[0].undo_of ? attic_of(*last[0].undo_of) : stage_of(last[0].id);
  }
  for (const std::string& home : Homes::all(env_.root)) {
    const std::string attics = os::join_path(home, kAttic), stages = os::join_path(home, kStage);
    if (!attic.empty() && env_.root.stat(os::join_path(home, from)) && !env_.root.stat(os::join_path(home, attic))) {
      to_attic(os::join_path(home, from), os::join_path(home, attic));
    }
    remove_given_up(attics);
    if (!env_.root.stat(stages)) continue;
    for (const std::string& name : env_.root.list(stages)) settle_stage(home, name);
    if (home == kHome || !env_.root.list(stages).empty()) continue;
    env_.root.remove_directory(stages);  // on other mounts nothing is left that holds nothing
    if (env_.root.list(home).empty()) env_.root.remove_directory(home);
  }
}

/// What can't be removed is tried again with each change: its owner may be filling it at this moment.
void Engine::remove_given_up(const std::string& attics) {
  if (!env_.root.stat(attics)) return;
  for (const std::string& name : env_.root.list(attics)) {
    const auto id = parse_number(name);
    if (!id || !env_.state.given_up(TxnId{static_cast<std::int64_t>(*id)})) continue;
    remove_if_possible(os::join_path(attics, name));
  }
}

void Engine::remove_if_possible(const std::string& path) {
  try {
    env_.root.remove_tree(path);
  } catch (const Error& problem) {
    env_.observer.note(
        fmt::format("{} could not be removed: {}; the next change tries again", env_.root.shown(path), problem.what()));
  }
}

/// A stage that stands: of what is prepared, of a transaction at whose end its file system was away, or of nothing.
void Engine::settle_stage(const std::string& home, const std::string& name) {
  const std::string stage = os::join_path(os::join_path(home, kStage), name);
  std::optional<TxnId> done;
  if (name.starts_with(kPrepared)) {
    const auto id = parse_number(name.substr(kPrepared.size()));
    const auto fate = id ? env_.state.fate_of_prepared(static_cast<std::int64_t>(*id)) : std::nullopt;
    if (fate && !fate->activated) return;
    if (fate) done = fate->activated;
  } else if (const auto id = parse_number(name)) {
    const auto entry = env_.state.ledger_entry(TxnId{static_cast<std::int64_t>(*id)});
    if (entry && entry->result == "done") done = entry->id;
  }
  const std::string late = done ? os::join_path(home, attic_of(*done)) : "";
  if (!done || env_.root.stat(late)) return remove_if_possible(stage);
  to_attic(stage, late);
}

/// Durable when it returns, the directory of all attics included.
void Engine::to_attic(const std::string& from, const std::string& attic) {
  const std::string attics(os::parent_of(attic));
  if (!env_.root.stat(attics)) {
    env_.root.make_directories(attics);
    env_.root.sync_directory(os::parent_of(attics));
  }
  env_.root.rename_no_replace(from, attic);
  env_.root.sync_directory(attics);
}

/// The directories whose entries the moves change, and those that are to be given other times, with these as they are
/// now.
std::vector<DirectoryTime> Engine::touched_directories(const std::vector<Move>& moves,
                                                       const std::vector<DirectoryTime>& restore) {
  std::set<std::string> paths;
  for (const DirectoryTime& time : restore) paths.insert(time.path);
  for (const Move& move : moves)
    if (move.kind != MoveKind::Attributes) paths.emplace(os::parent_of(move.path));
  const std::vector<std::string> asked(paths.begin(), paths.end());
  std::vector<std::optional<os::FileInfo>> found(asked.size());
  in_portions(asked.size(), env_.workers, kFew, [&](std::size_t first, std::size_t last) {
    os::Looker looker(env_.root);
    for (std::size_t i = first; i < last; ++i) found[i] = looker.stat(asked[i]);
  });
  std::vector<DirectoryTime> times;
  const auto add = [&](const std::string& path, const os::FileInfo& info) {
    times.push_back({path, info.mtime_seconds, info.mtime_nanoseconds, 0, 0});
  };
  for (std::size_t i = 0; i < asked.size(); ++i) {
    if (!found[i]) continue;
    if (found[i]->type == os::FileType::Directory) add(asked[i], *found[i]);
    if (found[i]->type != os::FileType::Symlink) continue;
    // An administrator's link: what is touched is the directory behind it.
    const auto behind = env_.root.stat_followed(asked[i]);
    if (!behind || behind->type != os::FileType::Directory) continue;
    if (const std::string path = env_.root.physical(asked[i]); paths.insert(path).second) add(path, *behind);
  }
  return times;
}

}  // namespace hambrel::txn
