#include "txn/checkpoint.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "txn/configuration.h"

namespace hambrel::txn {

namespace {

bool is_name(const std::string& name) {
  const auto letter = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); };
  return !name.empty() && name.size() <= 64 && letter(name[0]) && std::all_of(name.begin(), name.end(), [&](char c) {
    return letter(c) || (c >= '0' && c <= '9') || c == '.' || c == '_' || c == '-';
  });
}

/// It may lie where others can put something else in its place: what is kept is what was looked at, or nothing.
void copy(os::FileSystem& root, const state::CheckpointFile& file, const std::string& to, const os::FileInfo& info) {
  const std::string& from = file.path;
  root.make_directories(os::parent_of(to));
  const auto target = root.create(to, 0600);
  const auto source = root.open_itself(from);
  const auto opened = source->info();
  const bool same = !opened || (opened->inode == info.inode && opened->device == info.device);
  if (!same || os::copy_content(*source, *target, root.shown(from)) != file.digest)
    os::refuse_another(root.shown(from));
  os::Metadata metadata;
  metadata.mode = info.mode;
  metadata.mtime = info.mtime_seconds;
  metadata.attributes = own_attributes(root, from);
  target->finish(metadata);
}

/// Every path that is configuration of what is installed, or was of what left: of these some stay as leftovers.
std::set<std::string> configuration(const state::State& state) {
  std::set<std::string> paths;
  const auto add = [&](std::int64_t row) {
    for (const FileEntry& file : state.configuration_of(row)) paths.insert(file.path);
  };
  for (const state::StatePackage& one : state.installed()) add(one.row);
  for (const state::StatePackage& one : state.shelved()) add(one.row);
  for (const state::Replaced& one : state.replaced_with_configuration()) add(one.package.row);
  return paths;
}

std::string directory_of(std::int64_t id) { return fmt::format("{}/{}", kCheckpoints, id); }

}  // namespace

std::string place_of(const state::Checkpoint& checkpoint, const std::string& path) {
  return fmt::format("{}/tree/{}", directory_of(checkpoint.id), path);
}

namespace {

/// A copy of a file, or a link to that of an earlier checkpoint that has it just so.
void keep(os::FileSystem& root, const std::vector<state::Checkpoint>& before, const state::Checkpoint& made,
          const state::CheckpointFile& file, const os::FileInfo& info) {
  const std::string to = place_of(made, file.path);
  for (const state::Checkpoint& one : before)
    for (const state::CheckpointFile& known : one.files) {
      if (known.path != file.path || known.digest != file.digest) continue;
      const auto there = root.stat(place_of(one, file.path));
      if (!there || there->mode != info.mode || there->mtime_seconds != info.mtime_seconds) continue;
      root.make_directories(os::parent_of(to));
      return root.make_hard_link(place_of(one, file.path), to);
    }
  copy(root, file, to, info);
}

}  // namespace

state::Checkpoint make_checkpoint(os::FileSystem& root, state::State& state, const std::string& name,
                                  const std::string& note, std::int64_t now) {
  if (!is_name(name))
    throw Error(ErrorCode::Usage, fmt::format("\"{}\" cannot be the name of a checkpoint", printable(name)), {},
                "use a letter, then letters, digits, '.', '_' and '-', at most 64");
  state::Checkpoint made;
  made.id = 1;
  std::set<std::string> known;
  const auto before = state.checkpoints();
  for (const state::Checkpoint& one : before) {
    if (one.name == name)
      throw Error(ErrorCode::Refused, fmt::format("checkpoint {} already exists", name), {},
                  fmt::format("choose another name, or drop it first: hambrel checkpoint drop {}", name));
    made.id = std::max(made.id, one.id + 1);
    known.insert(std::to_string(one.id));
  }
  made.name = name;
  made.note = note;
  made.time = now;
  made.after = state::TxnId{number(state.next_id()) - 1};
  if (root.stat(kCheckpoints))
    for (const std::string& directory : root.list(kCheckpoints))
      if (!known.contains(directory)) root.remove_tree(os::join_path(kCheckpoints, directory));
  if (!root.stat(kCheckpoints)) {
    root.make_directories(os::parent_of(kCheckpoints));
    root.make_directory(kCheckpoints, 0700);
  }
  root.set_mode(kCheckpoints, 0700);  // before anything lies in it
  root.watch_writes(kCheckpoints);
  for (const std::string& path : configuration(state)) {
    const auto here = root.stat(path);
    if (!here || here->type != os::FileType::Regular) continue;
    const state::CheckpointFile file{path, root.digest(path), here->size, here->uid, here->gid};
    keep(root, before, made, file, *here);
    made.files.push_back(file);
  }
  HAMBREL_ASSERT(made.id > 0 && !known.contains(std::to_string(made.id)), "its directory is its own");
  root.make_directories(directory_of(made.id));
  root.sync_all(kCheckpoints);
  state.add_checkpoint(made);
  return made;
}

void drop_checkpoint(os::FileSystem& root, state::CheckpointStore& state, const std::string& name) {
  for (const state::Checkpoint& one : state.checkpoints()) {
    if (one.name != name) continue;
    state.drop_checkpoint(one.id);
    root.remove_tree(directory_of(one.id));
    return;
  }
  throw Error(ErrorCode::NotFound, fmt::format("there is no checkpoint {}", printable(name)), {},
              "`hambrel checkpoint list` shows them");
}

}  // namespace hambrel::txn
