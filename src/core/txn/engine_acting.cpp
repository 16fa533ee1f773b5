// What a transaction does for packages that ask for more than files, before it is journaled: see engine.h.
#include <fmt/format.h>

#include "base/assert.h"
#include "base/error.h"
#include "txn/capture.h"
#include "txn/configuration.h"
#include "txn/engine.h"
#include "txn/moving.h"
#include "txn/rehearsal_run.h"
#include "txn/stage_names.h"

namespace hambrel::txn {

using state::Journal;
using state::Move;
using state::MoveKind;
using state::TxnId;

/// REHEARSED. Where the root has changed under a program's feet, all of them run once more.
void Engine::rehearse(const Planned& planned, Transaction& ready, const std::string& directory) {
  if (planned.runs.empty()) return;
  if (planned.terms.leave_out) {
    for (const auto* const list : {&planned.runs.before, &planned.runs.hooks, &planned.runs.triggers})
      for (const rehearsal::Run& one : *list)
        ready.runs.push_back({one.shown.package, one.program_text(), one.shown.occasion, 0, state::kLeftOut, {}});
    return;
  }
  env_.before_rehearsal();
  const TxnId id = env_.state.next_id();
  HAMBREL_ASSERT(id == ready.journal.id, "nobody else took its number");
  HAMBREL_ASSERT(!directory.empty(), "a transaction has a directory of its own");
  const std::string scratch = preview_of(id);
  const auto run_once = [&] {
    try {
      RehearsalRun(env_, planned, directory, scratch).run(ready);
      preview_ = meanwhile([this, scratch] { drop_preview(scratch); });
    } catch (...) {
      drop_preview(scratch);
      for (const std::string& home : StagingHomes::all(env_.root))
        env_.root.remove_tree(fmt::format("{}/{}/{}", home, directory, made_in(id)));
      throw;
    }
  };
  try {
    run_once();
  } catch (const RootMoved&) {
    ready.runs.clear();
    run_once();
  }
  env_.after_step(EngineStep::Rehearsed);
}

/// Before anybody else tidies up. What could not be dropped is dropped by the next change.
void Engine::end_preview() {
  if (!preview_.valid()) return;
  try {
    preview_.get();
  } catch (...) {
    env_.observer.note(fmt::format("the preview could not be removed: {}", current_error().what()));
  }
}

void Engine::drop_preview(const std::string& scratch) {
  HAMBREL_ASSERT(!scratch.empty(), "a preview has a directory of its own");
  for (const std::string& home : StagingHomes::all(env_.root)) {
    const std::string place = os::join_path(home, scratch);
    // the kernel keeps a directory there that only root may enter
    if (const std::string own = place + "/work/work"; env_.root.stat(own)) env_.root.set_mode(own, 0700);
    env_.root.remove_tree(place);
  }
}

/// What others may not change meanwhile has to be as it was when it was read.
std::unique_ptr<os::Lock> Engine::hold_accounts(const Planned& planned) {
  if (planned.lines.empty()) return nullptr;
  constexpr int kPatience = 15;  // seconds, as others have it
  auto lock = os::take_account_lock(env_.root, kPatience);
  for (const auto& [path, digest] : planned.read)
    if (!env_.root.stat(path) || env_.root.digest(path) != digest)
      throw Error(ErrorCode::Refused, "was changed since this was planned", env_.root.shown(path),
                  "nothing was changed; run the command again");
  return lock;
}

/// Beside what comes from an attic.
void Engine::write_contents(const Planned& planned, Journal& journal) {
  std::size_t number_of = 0;
  for (const Planned::Content& one : planned.contents) {
    const auto here = one.goes ? env_.root.stat_present(one.path) : env_.root.stat(one.path);
    HAMBREL_ASSERT(one.link || (here && here->type == os::FileType::Regular), "what is written anew is there");
    HAMBREL_ASSERT(!one.goes || one.link, "nothing but links goes beside what an attic takes back");
    Move move;
    move.kind = here ? MoveKind::Exchange : MoveKind::Place;
    if (one.goes) move.kind = MoveKind::Remove;
    move.path = one.path;
    move.home = StagingHomes(env_.root).of(one.path);
    move.place = fmt::format("{}/{}", lines_in(journal.id), number_of++);
    move.plain = !here || here->type != os::FileType::Directory;
    const std::string place = place_of(move, journal.directory);
    env_.root.make_directories(os::parent_of(place));
    if (one.link && !one.goes) env_.root.make_symlink(one.text, place);
    if (!one.link) write_like(one, *here, place);
    if (!one.goes) move.inode_new = env_.root.stat_present(place).inode;
    if (here) {
      move.inode_old = here->inode;
      move.leaves = here->type == os::FileType::Regular ? here->size : 0;
    }
    HAMBREL_ASSERT(move.inode_new != 0 || move.inode_old != 0, "something comes or goes");
    journal.moves.push_back(std::move(move));
  }
}

/// With the owner, mode and attributes of what is there.
void Engine::write_like(const Planned::Content& content, const os::FileInfo& here, const std::string& place) {
  os::Metadata metadata;
  if (env_.set_owners) metadata.owner = {here.uid, here.gid};
  metadata.mode = here.mode;
  metadata.attributes = own_attributes(env_.root, content.path);
  HAMBREL_ASSERT(here.type == os::FileType::Regular && !content.link, "it is written as the file that is there");
  const auto file = env_.root.create(place, 0600);
  file->write(content.text);
  file->finish(metadata);
}

}  // namespace hambrel::txn
