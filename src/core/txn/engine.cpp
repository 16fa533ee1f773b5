#include "txn/engine.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <span>
#include <unordered_set>

#include "base/assert.h"
#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "os/neighbours.h"
#include "txn/housekeeping.h"
#include "txn/moving.h"
#include "txn/stage_names.h"
#include "txn/stager.h"

namespace hambrel::txn {

using state::DirectoryTime;
using state::Journal;
using state::LedgerEntry;
using state::Move;
using state::MoveKind;
using state::TxnId;

namespace {

constexpr std::size_t kFewToAsk = 200;  // things to look at: not worth a thread

}  // namespace

LedgerEntry Engine::entry(TxnId id, std::int64_t started, const Account& account) const {
  return entry_of(id, started, env_.now(), account);
}

void Engine::record_failure(std::int64_t started, const Account& account, const std::string& problem,
                            const std::vector<state::RunRecord>& runs) {
  LedgerEntry failed = entry(env_.state.next_id(), started, account);
  failed.result = "failed";
  failed.problem = problem;
  try {
    env_.state.record(failed, {}, {}, runs);
    Housekeeping(env_).copy();
  } catch (...) {  // the first problem is the one to be told; this one is told beside it
    env_.observer.note(fmt::format("the failure could not be written to the ledger: {}", current_error().what()));
  }
}

void Environment::go_on() const {
  if (stop_asked()) throw Error(ErrorCode::Declined, "interrupted; nothing was changed");
}

std::string_view text_of(EngineStep step) {
  switch (step) {
    case EngineStep::Staged: return "staged";
    case EngineStep::Arrived: return "arrived";
    case EngineStep::Rehearsed: return "rehearsed";
    case EngineStep::Synced: return "synced";
    case EngineStep::Prepared: return "prepared";
    case EngineStep::Journaled: return "journaled";
    case EngineStep::Moved: return "moved";
    case EngineStep::Switched: return "switched";
    case EngineStep::Committed: return "committed";
    case EngineStep::Done: return "done";
  }
  return "";
}

namespace {

std::optional<ByteCount> size_of_attic(const std::vector<Move>& moves) {
  ByteCount bytes = 0;
  for (const Move& move : moves) {
    if (move.kind != MoveKind::Exchange && move.kind != MoveKind::Remove) continue;
    if (move.leaves == Move::kLeavesUnknown) return std::nullopt;
    bytes += move.leaves;
  }
  return moves.empty() ? std::nullopt : std::optional(bytes);
}

}  // namespace

/// What it is, without anything that would have to be staged.
Transaction Engine::begin(const Planned& planned, const Account& account, const std::string& directory) {
  HAMBREL_ASSERT(!directory.empty(), "a transaction has a directory of its own");
  HAMBREL_ASSERT(planned.attic.empty() || planned.tree.moves.empty(), "files come from a stage or from an attic");
  HAMBREL_ASSERT(!planned.attic.empty() || planned.moves.empty(), "finished moves are of an attic");
  Transaction ready;
  ready.account = account;
  ready.account.undo_of = planned.undo_of;
  ready.changes = planned.changes;
  ready.restore = planned.restore;
  ready.gives_up = planned.gives_up;
  ready.generated = planned.generated;
  ready.lines = planned.lines;
  ready.picks = planned.picks;
  ready.answers = planned.answers;
  ready.follows = planned.follows;
  Journal& journal = ready.journal;
  journal.id = env_.state.next_id();
  HAMBREL_ASSERT(!planned.undo_of || number(*planned.undo_of) < number(journal.id), "only earlier ones are taken back");
  journal.directory = planned.attic.empty() ? directory : planned.attic;
  journal.started = env_.now();
  journal.kind = account.kind;
  journal.command = account.command;
  journal.user = account.user;
  return ready;
}

/// STAGED. Nothing has to be for what lies in an attic, or concerns no file.
void Engine::stage(const Planned& planned, Transaction& ready, const std::string& directory) {
  if (!planned.attic.empty()) {
    HAMBREL_ASSERT(os::is_below(planned.attic, kAttic), "what is finished lies in an attic");
    require_ways(planned.moves);
    ready.journal.moves = planned.moves;
    write_contents(planned, ready.journal);
    return;
  }
  Stager stager(env_, directory);
  if (planned.tree.moves.empty()) {
    stager.keep_pristine(planned.tree, planned.sources);
  } else {
    require_feasible(env_.root, planned.tree, env_.workers);  // again: time has passed since the plan
    ready.journal.moves = stager.stage(planned.tree, planned.sources);
    HAMBREL_ASSERT(ready.journal.moves.size() == planned.tree.moves.size(), "every move was made ready");
    env_.after_step(EngineStep::Staged);
  }
  if (!planned.arrival) return;
  ready.account.downloaded += planned.arrival();
  env_.after_step(EngineStep::Arrived);
}

Transaction Engine::make_ready(const Planned& planned, const Account& account, const std::string& directory) {
  HAMBREL_ASSERT(!planned.spent, "it is carried out once");
  HAMBREL_ASSERT(!env_.state.journal(), "nothing is staged while a journal stands");
  Transaction ready = begin(planned, account, directory);
  try {
    stage(planned, ready, directory);
    rehearse(planned, ready, ready.journal.directory);
    ready.attic = size_of_attic(ready.journal.moves);
    env_.go_on();
  } catch (...) {
    const Error problem = current_error();
    drop_stage(directory);
    for (const std::string& home : StagingHomes::all(env_.root))
      env_.root.remove_tree(fmt::format("{}/{}/{}", home, ready.journal.directory, lines_in(ready.journal.id)));
    record_failure(ready.journal.started, account, problem.what(), ready.runs);
    throw problem;
  }
  return ready;
}

TxnId Engine::run(Planned& planned, const Account& account) {
  const auto held = hold_accounts(planned);
  Transaction ready = make_ready(planned, account, stage_of(env_.state.next_id()));
  planned.spend();
  return switch_over(std::move(ready), std::nullopt);
}

state::Prepared Engine::prepare(const Planned& planned, const Account& account) {
  if (const auto standing = env_.state.prepared())
    throw Error(ErrorCode::Refused, fmt::format("a change is already prepared: {}", standing->command), {},
                "`hambrel activate` switches to it, `hambrel activate --discard` drops it");
  const auto held = hold_accounts(planned);
  state::Prepared prepared;
  prepared.id = env_.state.next_prepared();
  HAMBREL_ASSERT(!env_.state.fate_of_prepared(prepared.id), "a number is given once");
  const std::string directory = stage_of_prepared(prepared.id);
  Transaction ready = make_ready(planned, account, directory);
  try {
    os::Looker looker(env_.root);
    for (const Move& move : ready.journal.moves)
      if (move.kind != MoveKind::Attributes) ready.witnesses.push_back(witness_of(looker, move.path));
    prepared.time = env_.now();
    prepared.after = env_.state.last_done();
    prepared.kind = account.kind;
    prepared.command = account.command;
    prepared.user = account.user;
    prepared.note = account.note;
    prepared.record = account.record;
    prepared.staged = planned.tree.staged_bytes;
    sync(env_.root, ready.journal.moves);  // I2, before anybody is told that it is prepared
    env_.after_step(EngineStep::Synced);
    env_.state.prepare(prepared, ready.changes, [&] { return encode(ready); });
  } catch (...) {
    const Error problem = current_error();
    drop_stage(directory);
    record_failure(ready.journal.started, account, problem.what());
    throw problem;
  }
  end_preview();
  env_.after_step(EngineStep::Prepared);
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
  const std::string hint = "`hambrel activate --discard` drops it; then prepare it again";
  if (const TxnId last = env_.state.last_done(); last != prepared.after) {
    const auto entry = env_.state.ledger_entry(last);
    throw Error(ErrorCode::Refused,
                fmt::format("the system has changed since this was prepared: transaction {} ({})", number(last),
                            entry ? entry->kind : "not in the ledger"),
                {}, hint);
  }
  in_portions(witnesses.size(), env_.workers, kFewToAsk, [&](std::size_t first, std::size_t last) {
    os::Looker looker(env_.root);
    for (std::size_t i = first; i < last; ++i)
      if (const Witness& before = witnesses[i]; witness_of(looker, before.path) != before)
        throw Error(ErrorCode::Refused, "this has been changed since the transaction was prepared",
                    fmt::format("/{}", before.path), hint);
  });
}

void Engine::drop_stage(const std::string& directory) {
  HAMBREL_ASSERT(!directory.empty(), "a transaction has a directory of its own");
  end_preview();
  Stager(env_, directory).drop();
  Housekeeping(env_).tidy_up();
}

TxnId Engine::give_up(const std::vector<TxnId>& attics, const Account& account) {
  HAMBREL_ASSERT(!attics.empty(), "there is something to give up");
  const LedgerEntry done = entry(env_.state.next_id(), env_.now(), account);
  env_.state.record(done, {}, attics);
  for (const TxnId one : attics) HAMBREL_ASSERT(env_.state.given_up(one), "the state says so before the files go");
  env_.after_step(EngineStep::Committed);
  Housekeeping(env_).tidy_up();
  env_.after_step(EngineStep::Done);
  return done.id;
}

std::optional<Engine::Recovered> Engine::recover() { return Recovery(env_).recover(); }

TxnId Engine::activate(const state::Prepared& prepared) {
  Transaction ready = decode(env_.state.prepared_value(prepared.id), env_.state);
  constexpr int kPatience = 15;  // seconds
  HAMBREL_ASSERT(prepared.id > 0, "what is prepared has a number");
  const auto held = ready.lines.empty() ? nullptr : os::take_account_lock(env_.root, kPatience);
  require_unmoved(prepared, ready.witnesses);
  Journal& journal = ready.journal;
  journal.id = env_.state.next_id();
  journal.started = env_.now();
  journal.kind = ready.account.kind;
  journal.command = ready.account.command;
  journal.user = ready.account.user;
  require_homes(env_.root, journal);
  return switch_over(std::move(ready), prepared.id);
}

void Engine::discard(const state::Prepared& prepared) {
  env_.state.drop_prepared(prepared.id);
  Housekeeping(env_).tidy_up();
}

/// The directories of the move before: most moves lead from the same one to the same one.
struct Engine::OpenDirectories {
  explicit OpenDirectories(os::FileSystem& root) : in_stage(root), in_place(root) {}
  os::LastDirectory in_stage, in_place;
};

/// JOURNALED. I2: what is staged, and at the least the directories that take what leaves, are on the disk before the
/// journal names them.
void Engine::journal_it(Journal& journal, const Transaction& transaction, bool on_disk) {
  env_.observer.begin("writing to the disk", 0, Observer::Unit::Items);
  const EndOfProgress end(env_.observer);
  HAMBREL_ASSERT(journal.times.empty(), "times are taken when it is switched to");
  journal.times = touched_directories(journal.moves, transaction.restore);
  auto synced = meanwhile([&] {
    if (!on_disk) sync(env_.root, journal.moves);
  });
  env_.state.write_journal(journal, [&] {
    synced.get();
    env_.after_step(EngineStep::Synced);
  });
}

void Engine::move_all(Journal& journal, const std::vector<DirectoryTime>& restore) {
  env_.observer.begin("switching", journal.moves.size(), Observer::Unit::Items);
  const EndOfProgress end(env_.observer);
  OpenDirectories open(env_.root);
  for (std::size_t i = 0; i < journal.moves.size(); ++i) {
    constexpr std::size_t kTold = 256;
    do_move(journal.moves[i], journal.directory, open);
    env_.after_step(EngineStep::Moved);
    if (i % kTold == kTold - 1) env_.observer.progress(i + 1);
  }
  for (const DirectoryTime& time : restore)
    if (env_.root.stat(time.path)) env_.root.set_mtime(time.path, time.before_seconds, time.before_nanoseconds);
  in_portions(journal.times.size(), env_.workers, kFewToAsk, [&](std::size_t first, std::size_t last) {
    os::Looker looker(env_.root);
    for (DirectoryTime& time : std::span(journal.times).subspan(first, last - first))
      if (const auto info = looker.stat(time.path)) {
        time.after_seconds = info->mtime_seconds;
        time.after_nanoseconds = info->mtime_nanoseconds;
      }
  });
  remember_put_away(journal);
}

/// SWITCHED, COMMITTED. `prepared`: from PREPARED, whose files are on the disk already.
TxnId Engine::switch_over(Transaction transaction, std::optional<std::int64_t> prepared) {
  HAMBREL_ASSERT(!env_.state.journal(), "one transaction at a time");
  HAMBREL_ASSERT(number(transaction.journal.id) > 0, "a transaction has a number");
  HAMBREL_ASSERT(!transaction.journal.directory.empty(), "a transaction has a directory of its own");
  Journal& journal = transaction.journal;
  const Account& account = transaction.account;
  // nothing but the commit looks at the changes
  auto described = meanwhile([&] {
    for (state::PackageChange& change : transaction.changes) change.brings = digests_of(change);
  });
  try {
    env_.before_switch();
    journal_it(journal, transaction, prepared.has_value());
  } catch (...) {
    const Error problem = current_error();
    end_preview();
    Housekeeping(env_).tidy_up();
    record_failure(journal.started, account, problem.what());
    throw problem;
  }
  try {
    env_.after_step(EngineStep::Journaled);
    move_all(journal, transaction.restore);
    env_.observer.begin("recording", 0, Observer::Unit::Items);
    const EndOfProgress end(env_.observer);
    auto synced = meanwhile([&] { sync_moved(journal, transaction.restore); });
    described.get();
    LedgerEntry done = entry(journal.id, journal.started, account);
    done.undo_of = account.undo_of;
    env_.state.commit(
        done, transaction.changes,
        {&journal.moves, journal.times, transaction.gives_up, transaction.attic, prepared, transaction.generated,
         transaction.runs, transaction.lines, transaction.picks, transaction.answers, transaction.follows},
        [&] {
          synced.get();
          env_.after_step(EngineStep::Switched);
        });
  } catch (...) {  // whatever it is
    const Error problem = current_error();
    end_preview();
    Recovery(env_).take_back_after(problem, journal.id);
    throw problem;
  }
  HAMBREL_ASSERT(!env_.state.journal(), "what is committed has no journal");
  env_.after_step(EngineStep::Committed);
  end_preview();
  Housekeeping(env_).tidy_up();
  env_.after_step(EngineStep::Done);
  return journal.id;
}

/// When what was put away was changed last: by its move, unless somebody changes it later. Where it is not what stood
/// there when the transaction was made ready, somebody was quicker than the move: his is given back.
void Engine::remember_put_away(Journal& journal) {
  in_portions(journal.moves.size(), env_.workers, kFewToAsk, [&](std::size_t first, std::size_t last) {
    os::Looker looker(env_.root);
    for (Move& move : std::span(journal.moves).subspan(first, last - first)) {
      if (move.kind != MoveKind::Exchange && move.kind != MoveKind::Remove) continue;
      const auto info = looker.stat(place_of(move, journal.directory));
      if (!info || info->inode != move.inode_old)
        throw Error(ErrorCode::Refused, "was replaced by somebody else during the switch", env_.root.shown(move.path),
                    "everything was taken back; run the command again");
      move.put_away_seconds = info->changed_seconds;
      move.put_away_nanoseconds = info->changed_nanoseconds;
    }
  });
}

/// Syncing, say, while the state puts together what must not hold before that is done. With one thread it waits for
/// get().
Aside<void> Engine::meanwhile(const std::function<void()>& work) const {
  return env_.workers > 1 ? aside(work) : later(work);
}

/// What the moves have changed: where it is little, these directories alone, so that the switch does not wait for what
/// others have written to the same file system.
void Engine::sync_moved(const Journal& journal, const std::vector<DirectoryTime>& restore) {
  constexpr std::size_t kMost = 1000;  // directories
  std::set<std::string, std::less<>> changed;
  const auto add = [&](std::string_view directory) {
    if (!changed.contains(directory)) changed.emplace(directory);
  };
  for (const Move& move : journal.moves) {
    if (move.kind == MoveKind::Attributes || changed.size() > kMost) return sync(env_.root, journal.moves);
    add(os::parent_of(move.path));
    add(os::parent_of(place_of(move, journal.directory)));
  }
  std::unordered_set<std::string_view> ways;  // to them: where one was moved, another directory may stand now, or none
  for (const std::string& path : changed)
    for (std::string_view above = path; !above.empty(); above = os::parent_of(above)) ways.insert(above);
  if (std::any_of(journal.moves.begin(), journal.moves.end(), [&](const Move& one) { return ways.contains(one.path); }))
    return sync(env_.root, journal.moves);
  for (const DirectoryTime& time : restore)
    if (const auto info = env_.root.stat(time.path); info && info->type == os::FileType::Directory)
      changed.insert(time.path);
  const std::vector<std::string> directories(changed.begin(), changed.end());
  // They wait for the disk, not for a processor; of syncs at the same time it writes out its cache for several at once.
  constexpr unsigned kSyncsAtOnce = 8;
  const unsigned threads = env_.workers > 1 ? kSyncsAtOnce : 1;
  in_portions(directories.size(), threads, 1, [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) env_.root.sync_directory(directories[i]);
  });
}

void Engine::do_move(const Move& move, const std::string& directory, OpenDirectories& open) {
  HAMBREL_ASSERT(!move.path.empty() && !move.home.empty(), "a move leads somewhere");
  HAMBREL_ASSERT(move.kind != MoveKind::Place || move.inode_new != 0, "what comes was staged");
  HAMBREL_ASSERT(move.kind != MoveKind::Exchange || (move.inode_new != 0 && move.inode_old != 0),
                 "both sides are known");
  HAMBREL_ASSERT(move.kind == MoveKind::Attributes || !move.place.empty(), "what is moved has a place");
  HAMBREL_ASSERT(move.kind != MoveKind::Remove || move.inode_old != 0, "what goes was there");
  if (move.kind == MoveKind::Attributes)
    return give(open.in_place.of(move.path), os::name_of(move.path), move.inode_old, move.attributes_change().after,
                env_.set_owners);
  const std::string place = place_of(move, directory);
  os::Directory &stage = open.in_stage.of(place), &there = open.in_place.of(move.path);
  const auto staged = os::name_of(place), name = os::name_of(move.path);
  if (move.kind == MoveKind::Exchange)
    stage.rename_exchange(staged, there, name);
  else if (move.kind == MoveKind::Place)
    stage.rename_no_replace(staged, there, name);
  else
    there.rename_no_replace(name, stage, staged);
  if (move.plain) return;
  open.in_stage.forget();
  open.in_place.forget();
}

/// The directories whose entries the moves change, and those that are to be given other times, with these as they are
/// now.
std::vector<DirectoryTime> Engine::touched_directories(const std::vector<Move>& moves,
                                                       const std::vector<DirectoryTime>& restore) {
  std::set<std::string, std::less<>> paths;
  for (const DirectoryTime& time : restore) paths.insert(time.path);
  for (const Move& move : moves)
    if (const auto parent = os::parent_of(move.path); move.kind != MoveKind::Attributes && !paths.contains(parent))
      paths.emplace(parent);
  const std::vector<std::string> asked(paths.begin(), paths.end());
  std::vector<std::optional<os::FileInfo>> found(asked.size());
  in_portions(asked.size(), env_.workers, kFewToAsk, [&](std::size_t first, std::size_t last) {
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
