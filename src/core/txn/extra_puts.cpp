#include "txn/extra_puts.h"

#include <algorithm>

#include "base/assert.h"

namespace hambrel::txn {

using state::MoveKind;

namespace {

auto place_in(std::vector<Put>& puts, std::string_view path) {
  return std::lower_bound(puts.begin(), puts.end(), path,
                          [](const Put& one, std::string_view wanted) { return one.entry.path() < wanted; });
}

}  // namespace

const Put* find_put(const TreeChange& change, std::string_view path) {
  const auto found =
      std::lower_bound(change.puts.begin(), change.puts.end(), path,
                       [](const Put& put, std::string_view wanted) { return put.entry.path() < wanted; });
  return found != change.puts.end() && found->entry.path() == path ? &*found : nullptr;
}

Put* ExtraPuts::at(std::string_view path) {
  const auto found = place_in(change_.puts, path);
  const bool there =
      found != change_.puts.end() && found->entry.path() == path && found->entry.type() != EntryType::Directory;
  return there ? &*found : nullptr;
}

const Put* ExtraPuts::directory_at(std::string_view path) const {
  const Put* const found = find_put(change_, path);
  return found != nullptr && found->entry.type() == EntryType::Directory ? found : nullptr;
}

/// Of a directory that is new as a whole: it is moved with all that is in it.
bool ExtraPuts::comes_with_directory(std::string_view path) const {
  const auto parent = os::parent_of(path);
  return directory_at(parent) != nullptr && !root_.stat_followed(parent);
}

void ExtraPuts::add_directories(std::string_view path) {
  const std::string parent(os::parent_of(path));
  if (parent.empty() || directory_at(parent) != nullptr || root_.stat_followed(parent)) return;
  add_directories(parent);
  FileEntry entry;
  entry.path = parent;
  entry.type = EntryType::Directory;
  entry.mode = 0755;
  Put put{entry, Put::npos, {}, homes_.of(parent)};
  if (!comes_with_directory(parent)) change_.moves.insert(change_.moves.begin(), {MoveKind::Place, parent, put.home()});
  made_.push_back(parent);
  insert(std::move(put));
}

Put& ExtraPuts::insert(Put put) {
  const auto at = place_in(change_.puts, put.entry.path());
  HAMBREL_ASSERT(at == change_.puts.end() || at->entry.path() != put.entry.path(), "one thing is put at a path");
  return *change_.puts.insert(at, std::move(put));
}

Put& ExtraPuts::add(const FileEntry& entry) {
  add_directories(entry.path);
  Put put{entry, Put::npos, {}, homes_.of(entry.path)};
  if (!comes_with_directory(entry.path)) {
    const MoveKind kind = root_.stat(entry.path) ? MoveKind::Exchange : MoveKind::Place;
    // before the removals, after the directories that it may need
    const auto first_removal = std::find_if(change_.moves.begin(), change_.moves.end(),
                                            [&](const PlannedMove& one) { return one.kind == MoveKind::Remove; });
    const bool leaves = std::any_of(change_.moves.begin(), change_.moves.end(), [&](const PlannedMove& one) {
      return one.kind == MoveKind::Remove && one.path == entry.path;
    });
    if (leaves)  // something else comes in the place of what goes
      change_.moves.push_back({MoveKind::Place, entry.path, put.home()});
    else
      change_.moves.insert(first_removal, {kind, entry.path, put.home()});
  }
  return insert(std::move(put));
}

void ExtraPuts::remove(const std::string& path) {
  HAMBREL_ASSERT(!path.empty(), "the root itself stays");
  for (const PlannedMove& one : change_.moves)
    if (one.kind == MoveKind::Remove && one.path == path) return;
  change_.moves.push_back({MoveKind::Remove, path, homes_.of(path)});
}

}  // namespace hambrel::txn
