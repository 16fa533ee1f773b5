#include "txn/capture.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "txn/moving.h"
#include "txn/stage_names.h"
#include "txn/stager.h"

namespace hambrel::txn {

using rehearsal::Run;
using rehearsal::Written;
using state::Move;
using state::MoveKind;

namespace {

std::string owner_text(const Run& run) {
  return fmt::format("the {} of {}", run.is_trigger() ? "trigger" : "hook", run.shown.package);
}

}  // namespace

Capture::Capture(const Environment& environment, const Planned& planned, std::string directory,
                 std::pair<std::int64_t, std::int64_t> begun, std::vector<Move> moves)
    : env_(environment),
      planned_(planned),
      directory_(std::move(directory)),
      begun_(begun),
      moves_(std::move(moves)),
      labels_(env_.root, env_.observer) {
  for (std::size_t i = 0; i < moves_.size(); ++i) by_path_.insert_or_assign(moves_[i].path.string(), i);
}

/// The one with the longest top.
const std::string& Capture::home_of(std::string_view path) const {
  const std::pair<std::string, const rehearsal::View*>* best = nullptr;
  for (const auto& one : homes_) {
    const std::string& top = one.second->top();
    const bool holds = top.empty() || os::is_below(path, top);
    if (holds && (best == nullptr || top.size() > best->second->top().size())) best = &one;
  }
  HAMBREL_ASSERT(best != nullptr, "what was written is on a file system of the preview");
  return best->first;
}

/// Files of packages are as their packages bring them; configuration aside, which anybody may edit.
void Capture::require_nobodys(const Written& one, const Run& run) const {
  const auto refuse = [&](const std::string& owner) {
    throw Error(ErrorCode::Refused, fmt::format("{} changed a file of {}", owner_text(run), owner),
                "/" + printable(one.path), "nothing was changed; tell the maintainer of the package");
  };
  if (const Put* const put = find_put(planned_.tree, one.path)) {
    if (put->entry.type() != EntryType::Directory && !put->entry.config() && put->package != Put::npos)
      refuse(planned_.sources.at(put->package).package.name);
    return;
  }
  std::set<std::int64_t> leaving;
  for (const state::PackageChange& change : planned_.changes)
    if (change.before_row && change.before_row != change.after_row) leaving.insert(*change.before_row);
  const auto owner = env_.state.owner_of(one.path, leaving);
  if (owner && owner->entry.type != EntryType::Directory && !owner->entry.config) refuse(owner->package_name);
}

namespace {

[[noreturn]] void refuse_moved(const std::string& path) {
  throw RootMoved(ErrorCode::Refused, "this was changed while programs of packages ran on a preview",
                  "/" + printable(path), "nothing was changed; run the command again");
}

}  // namespace

/// What a program read to make this may not have been changed meanwhile.
void Capture::require_unmoved(const std::string& path) const {
  const auto here = env_.root.stat(path);
  if (here && here->type != os::FileType::Directory &&
      std::pair(here->changed_seconds, here->changed_nanoseconds) >= begun_)
    refuse_moved(path);
}

void Capture::require_all_declared(const std::string& path, const Run& run) const {
  const auto info = env_.root.stat(path);
  if (!info || info->type != os::FileType::Directory) return;
  for (const std::string& name : env_.root.list(path)) {
    const std::string below = os::join_path(path, name);
    if (!rehearsal::is_declared(run.shown.writes, below, false))
      throw Error(ErrorCode::Refused,
                  fmt::format("{} removed this, which the package does not declare", owner_text(run)),
                  "/" + printable(below), "nothing was changed; tell the maintainer of the package");
    if (const auto owner = env_.state.owner_of(below, {}))
      throw Error(ErrorCode::Refused, fmt::format("{} removed a file of {}", owner_text(run), owner->package_name),
                  "/" + printable(below), "nothing was changed; tell the maintainer of the package");
    require_all_declared(below, run);
  }
}

Move* Capture::move_at(const std::string& path) {
  const auto found = by_path_.find(path);
  return found == by_path_.end() ? nullptr : &moves_[found->second];
}

/// Where a path lies in the stage if it comes with a directory that is moved as a whole.
std::optional<std::string> Capture::staged_below(const std::string& path) const {
  for (auto above = os::parent_of(path); !above.empty(); above = os::parent_of(above)) {
    const auto found = by_path_.find(above);
    if (found == by_path_.end()) continue;
    const Move& move = moves_[found->second];
    if (move.kind != MoveKind::Place && move.kind != MoveKind::Exchange) continue;
    const std::string place = place_of(move, directory_);
    if (const auto info = env_.root.stat(place); info && info->type == os::FileType::Directory)
      return place + path.substr(above.size());
  }
  return std::nullopt;
}

std::string Capture::new_place() {
  constexpr std::size_t kBucket = 512;
  const std::string bucket = fmt::format("{}/{}", made_in(env_.state.next_id()), places_ / kBucket);
  return fmt::format("{}/{}", bucket, places_++ % kBucket);
}

/// With the directories that lead to it.
std::string Capture::make_place(const Move& move) {
  if (!env_.root.stat(os::join_path(move.home, directory_))) Stager::make_stage(env_, move.home.string(), directory_);
  std::string place = place_of(move, directory_);
  env_.root.make_directories(os::parent_of(place));
  return place;
}

void Capture::put(const Written& one) {
  rehearsal::remove_marks(env_.root, one.place);
  if (one.kind == Written::Kind::Directory) whole_.push_back(one.path + "/");
  if (const auto staged = staged_below(one.path)) {
    if (env_.root.stat(*staged)) env_.root.remove_tree(*staged);
    return env_.root.rename_no_replace(one.place, *staged);
  }
  if (Move* const known = move_at(one.path); known != nullptr && known->kind != MoveKind::Remove) {
    HAMBREL_ASSERT(known->kind != MoveKind::Attributes, "only configuration and what is no package's is written anew");
    const std::string place = place_of(*known, directory_);
    env_.root.remove_tree(place);
    env_.root.rename_no_replace(one.place, place);
    known->inode_new = one.info.inode;
    known->plain = known->plain && one.kind == Written::Kind::File;
    return;
  }
  Move move;
  move.path = one.path;
  move.home = home_of(one.path);
  move.place = new_place();
  move.inode_new = one.info.inode;
  const auto here = move_at(one.path) == nullptr ? env_.root.stat(one.path) : std::nullopt;
  move.kind = here ? MoveKind::Exchange : MoveKind::Place;
  if (here) {
    move.inode_old = here->inode;
    move.leaves = here->type == os::FileType::Regular ? here->size : 0;
  }
  move.plain = one.kind == Written::Kind::File && (!here || here->type != os::FileType::Directory);
  const std::string place = make_place(move);
  env_.root.rename_no_replace(one.place, place);
  by_path_.insert_or_assign(move.path.string(), moves_.size());
  moves_.push_back(std::move(move));
}

void Capture::give_attributes(const Written& one) {
  const state::DirectoryAttributes after{one.info.mode, one.info.uid, one.info.gid};
  const auto staged = move_at(one.path) != nullptr && move_at(one.path)->kind != MoveKind::Attributes
                          ? std::optional(place_of(*move_at(one.path), directory_))
                          : staged_below(one.path);
  if (staged) {
    if (env_.set_owners) env_.root.set_owner(*staged, after.uid, after.gid);
    return env_.root.set_mode(*staged, after.mode);
  }
  const auto here = env_.root.stat(one.path);
  if (!here || here->type != os::FileType::Directory) refuse_moved(one.path);
  if (Move* const known = move_at(one.path); known != nullptr) {
    known->attributes.own().after = after;
    return;
  }
  Move move;
  move.kind = MoveKind::Attributes;
  move.path = one.path;
  move.home = home_of(one.path);
  move.inode_old = here->inode;
  move.attributes = state::AttributesChange{{here->mode, here->uid, here->gid}, after};
  by_path_.insert_or_assign(move.path.string(), moves_.size());
  moves_.push_back(std::move(move));
}

void Capture::remove(const Written& one, const Run& run) {
  const auto here = env_.root.stat(one.path);
  if (const auto staged = staged_below(one.path)) return env_.root.remove_tree(*staged);
  if (move_at(one.path) != nullptr)
    throw Error(ErrorCode::Refused, fmt::format("{} removed what this change brings", owner_text(run)),
                "/" + printable(one.path), "nothing was changed; tell the maintainer of the package");
  if (!here) return;
  Move move;
  move.kind = MoveKind::Remove;
  move.path = one.path;
  move.home = home_of(one.path);
  move.place = new_place();
  move.inode_old = here->inode;
  move.leaves = here->type == os::FileType::Regular ? here->size : 0;
  move.plain = here->type != os::FileType::Directory;
  make_place(move);
  by_path_.insert_or_assign(move.path.string(), moves_.size());
  moves_.push_back(std::move(move));
}

void Capture::check(const Written& one, const Run& run) const {
  if (one.kind != Written::Kind::Attributes) require_nobodys(one, run);
  require_unmoved(one.path);
  if (one.kind == Written::Kind::File || one.kind == Written::Kind::Gone) require_all_declared(one.path, run);
}

void Capture::add(const Written& one, const Run& run) {
  const bool with_directory =
      std::any_of(whole_.begin(), whole_.end(), [&](const std::string& top) { return one.path.starts_with(top); });
  if (!with_directory) {
    switch (one.kind) {
      case Written::Kind::File:
      case Written::Kind::Directory: put(one); break;
      case Written::Kind::Attributes: give_attributes(one); break;
      case Written::Kind::Gone: remove(one, run); break;
      case Written::Kind::Strange: return;
    }
  }
  if (one.kind == Written::Kind::Gone) return forget(one.path);
  if (one.kind != Written::Kind::Attributes) remember(one, run);
}

void Capture::remember(const Written& one, const Run& run) {
  state::Generated made;
  made.package = run.shown.package;
  made.program = run.program_text();
  made.by_trigger = run.is_trigger();
  made.entry.path = one.path;
  if (one.kind == Written::Kind::Directory) made.entry.type = EntryType::Directory;
  if (one.info.type == os::FileType::Symlink) made.entry.type = EntryType::Symlink;
  made.entry.mode = one.info.mode;
  made.entry.user = std::to_string(one.info.uid);
  made.entry.group = std::to_string(one.info.gid);
  const std::string place = staged_place(one.path);
  if (const std::string label = labels_.of(made.entry); !label.empty()) env_.root.set_label(place, label);
  if (made.entry.type == EntryType::Symlink) {
    made.entry.target = env_.root.read_link(place);
  } else if (made.entry.type == EntryType::File) {
    made.entry.size = one.info.size;
    made.entry.digest = env_.root.digest(place);
  }
  generated_[one.path] = {one.path, env_.state.generated_at(one.path), std::move(made)};
}

/// Where it lies now, for its content.
std::string Capture::staged_place(const std::string& path) {
  if (const Move* const move = move_at(path)) return place_of(*move, directory_);
  const auto staged = staged_below(path);
  HAMBREL_ASSERT(staged.has_value(), "what was written has its place by now");
  return *staged;
}

/// With all that was below it.
void Capture::forget(const std::string& path) {
  for (const state::Generated& one : env_.state.generated())
    if (one.entry.path == path || os::is_below(one.entry.path, path))
      generated_[one.entry.path] = {one.entry.path, one, std::nullopt};
}

void Capture::finish(Transaction& ready) {
  HAMBREL_ASSERT(moves_.size() >= ready.journal.moves.size(), "programs add to what was planned");
  ready.journal.moves = std::move(moves_);
  for (state::GeneratedChange& one : ready.generated) generated_.try_emplace(one.path, std::move(one));
  ready.generated.clear();
  for (auto& [path, change] : generated_) ready.generated.push_back(std::move(change));
}

}  // namespace hambrel::txn
