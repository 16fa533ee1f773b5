// Recovery: a switch that was cut off, or failed, is taken back from its journal.
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
#include "txn/stage_names.h"

namespace hambrel::txn {

using state::DirectoryTime;
using state::Journal;
using state::LedgerEntry;
using state::Move;
using state::MoveKind;
using state::TxnId;

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

}  // namespace hambrel::txn
