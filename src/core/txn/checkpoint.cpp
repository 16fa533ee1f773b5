#include "txn/checkpoint.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/error.h"
#include "base/text.h"

namespace hambrel::txn {

namespace {

bool is_name(const std::string& name) {
  const auto letter = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); };
  return !name.empty() && name.size() <= 64 && letter(name[0]) && std::all_of(name.begin(), name.end(), [&](char c) {
    return letter(c) || (c >= '0' && c <= '9') || c == '.' || c == '_' || c == '-';
  });
}

void copy(os::FileSystem& root, const std::string& from, const std::string& to) {
  const auto info = root.stat(from);
  root.make_directories(os::parent_of(to));
  const auto target = root.create(to, 0600);
  os::copy_content(*root.open(from), *target, root.shown(from));
  os::Metadata metadata;
  metadata.mode = info->mode;
  metadata.mtime = info->mtime_seconds;
  target->finish(metadata);
}

std::string directory_of(std::int64_t id) { return fmt::format("{}/{}", kCheckpoints, id); }

}  // namespace

std::string place_of(const state::Checkpoint& checkpoint, const std::string& path) {
  return fmt::format("{}/tree/{}", directory_of(checkpoint.id), path);
}

state::Checkpoint make_checkpoint(os::FileSystem& root, state::State& state, const std::string& name,
                                  const std::string& note, std::int64_t now) {
  if (!is_name(name))
    throw Error(ErrorCode::Usage, fmt::format("\"{}\" is no name for a checkpoint", printable(name)), {},
                "a letter, then letters, digits, '.', '_' and '-', at most 64");
  state::Checkpoint made;
  made.id = 1;
  std::set<std::string> known;
  for (const state::Checkpoint& one : state.checkpoints()) {
    if (one.name == name)
      throw Error(ErrorCode::Refused, fmt::format("there is a checkpoint {} already", name), {},
                  fmt::format("take another name, or first: hambrel checkpoint drop {}", name));
    made.id = std::max(made.id, one.id + 1);
    known.insert(std::to_string(one.id));
  }
  made.name = name, made.note = note, made.time = now;
  made.after = state::TxnId{number(state.next_id()) - 1};
  if (root.stat(kCheckpoints))
    for (const std::string& directory : root.list(kCheckpoints))
      if (!known.contains(directory)) root.remove_tree(os::join_path(kCheckpoints, directory));
  for (const state::StatePackage& package : state.installed())
    for (const FileEntry& file : state.configuration_of(package.row)) {
      const auto here = root.stat(file.path);
      if (!here || here->type != os::FileType::Regular) continue;
      const Digest now_there = root.digest(file.path);
      if (now_there == file.digest) continue;
      copy(root, file.path, place_of(made, file.path));
      made.files.push_back({file.path, now_there, here->size, here->uid, here->gid});
    }
  root.make_directories(directory_of(made.id));
  root.set_mode(kCheckpoints, 0700);
  root.sync_all(kCheckpoints);
  state.add_checkpoint(made);
  return made;
}

void drop_checkpoint(os::FileSystem& root, state::State& state, const std::string& name) {
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
