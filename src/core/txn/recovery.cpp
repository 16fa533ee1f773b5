#include "txn/recovery.h"

#include <fmt/format.h>

#include "txn/housekeeping.h"
#include "txn/moving.h"

#include "base/assert.h"

namespace hambrel::txn {

using state::DirectoryTime;
using state::Journal;
using state::LedgerEntry;
using state::Move;
using state::MoveKind;
using state::TxnId;

void Recovery::take_back_after(const Error& problem, TxnId id) {
  HAMBREL_ASSERT(number(id) > 0, "a transaction has a number");
  try {
    const auto standing = env_.state.journal();
    if (standing && standing->id == id) take_back(*standing, "failed", problem.what());
  } catch (...) {
    const Error also = current_error();
    throw Error(ErrorCode::Unrecovered,
                fmt::format("the transaction failed ({}) and could not be rolled back yet ({})", problem.problem(),
                            also.problem()),
                also.where(), "fix the cause, then run `hambrel recover`: the journal says what is left to do");
  }
  Housekeeping(env_).tidy_up();
}

/// Takes one move back if it was done. Asks the disk, never memory (I3). What its owner has put a link in the way of is
/// his: root does not follow, and nobody else waits for it.
bool Recovery::take_back(const Move& move, const std::string& directory) {
  if (const auto link = env_.root.strange_link(move.path)) {
    env_.observer.note(
        fmt::format("{}: other users can change this symbolic link; /{} is left as it is", *link, move.path));
    return false;
  }
  // who removed its directory meanwhile would have removed what was in it, too
  const auto above = env_.root.stat_followed(os::parent_of(move.path));
  if (!above || above->type != os::FileType::Directory) {
    env_.observer.note(fmt::format("{}: somebody else has removed its directory during the switch; it is left as it is",
                                   env_.root.shown(move.path)));
    return false;
  }
  const std::string place = place_of(move, directory);
  const auto inode_at = [&](std::string_view path) {
    const auto info = env_.root.stat(path);
    return info ? info->inode : 0;
  };
  switch (move.kind) {
    case MoveKind::Place:
      if (inode_at(move.path) != move.inode_new) return false;
      env_.root.rename_no_replace(move.path, place);
      return true;
    case MoveKind::Exchange:
      // what comes lay in the stage: where it is at its path, the move was done, whatever had come there before it
      if (inode_at(move.path) != move.inode_new || inode_at(place) == 0) return false;
      env_.root.rename_exchange(place, move.path);
      return true;
    case MoveKind::Remove:
      if (inode_at(place) == 0) return false;
      env_.root.rename_no_replace(place, move.path);
      return true;
    case MoveKind::Attributes: {
      const auto now = env_.root.stat(move.path);
      if (!now || now->type != os::FileType::Directory) return false;
      if (move.inode_old != 0 && now->inode != move.inode_old) return false;
      give(*env_.root.open_directory(os::parent_of(move.path)), os::name_of(move.path), now->inode,
           move.attributes_change().before, env_.set_owners);
      return true;
    }
  }
  return false;
}

Recovery::Recovered Recovery::take_back(const Journal& journal, const std::string& result, const std::string& problem) {
  HAMBREL_ASSERT(number(journal.id) > 0 && !journal.directory.empty(), "a journal names its transaction");
  HAMBREL_ASSERT(result != "done", "what is taken back was not done");
  HAMBREL_ASSERT(!env_.state.ledger_entry(journal.id), "what is in the ledger was committed or taken back already");
  Recovered recovered;
  recovered.id = journal.id;
  recovered.kind = journal.kind;
  recovered.command = journal.command;
  recovered.started = journal.started;
  recovered.moves = journal.moves.size();
  require_homes(env_.root, journal);
  for (auto move = journal.moves.rbegin(); move != journal.moves.rend(); ++move)
    if (take_back(*move, journal.directory)) ++recovered.moves_taken_back;
  for (const DirectoryTime& time : journal.times)
    if (!env_.root.strange_link(time.path) && env_.root.stat(time.path))
      env_.root.set_mtime(time.path, time.before_seconds, time.before_nanoseconds);
  sync(env_.root, journal.moves);
  LedgerEntry back;
  back.id = journal.id;
  back.started = journal.started;
  back.ended = env_.now();
  back.user = journal.user;
  back.command = journal.command;
  back.kind = journal.kind;
  back.result = result;
  back.problem = problem;
  HAMBREL_ASSERT(recovered.moves_taken_back <= recovered.moves, "no move is taken back twice");
  env_.state.close_taken_back(back);
  return recovered;
}

std::optional<Recovery::Recovered> Recovery::recover() {
  std::optional<Recovered> recovered;
  if (const auto journal = env_.state.journal())
    recovered = take_back(*journal, "taken back", "interrupted before it was complete; everything was restored");
  HAMBREL_ASSERT(!env_.state.journal(), "nothing is open any more");
  Housekeeping housekeeping(env_);
  housekeeping.settle_directories();
  housekeeping.copy();
  return recovered;
}

}  // namespace hambrel::txn
