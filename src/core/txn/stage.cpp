// Staging: everything new is made below the transaction's directory, whole and with all its metadata.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/error.h"
#include "base/text.h"
#include "txn/engine.h"
#include "txn/owners.h"

namespace hambrel::txn {

using state::Move;
using state::MoveKind;

void Engine::stage(const TreeChange& change, const std::vector<Source>& sources, const std::string& directory) {
  env_.root.remove_tree(directory);
  env_.root.make_directories(kStage);
  env_.root.make_directory(directory, 0700);
  env_.root.make_directories(directory + "/tree");
  std::vector<std::map<std::string, const Put*>> wanted(sources.size());
  for (const Put& put : change.puts) {
    if (put.entry.type == EntryType::File) wanted[put.package].emplace(put.source, &put);
  }
  for (const Put& put : change.puts)
    if (put.entry.type == EntryType::Directory)
      env_.root.make_directories(fmt::format("{}/tree/{}", directory, put.entry.path));

  env_.observer.begin("staging", change.staged_bytes, Observer::Unit::Bytes);
  ByteCount done = 0;
  std::unique_ptr<os::WritableFile> file;
  for (std::size_t i = 0; i < sources.size(); ++i) {
    const auto at = [&](const archive::Entry& one) {
      return fmt::format("{}/tree/{}", directory, wanted[i].at(one.path)->entry.path);
    };
    archive::PackageReader::Sink sink;
    sink.want = [&](const archive::Entry& one) { return wanted[i].contains(one.path); };
    sink.begin = [&](const archive::Entry& one) {
      env_.root.make_directories(os::parent_of(at(one)));
      file = env_.root.create(at(one), 0600);
    };
    sink.data = [&](const archive::Entry&, std::string_view data) {
      file->write(data);
      env_.observer.progress(done += data.size());
    };
    sink.end = [&](const archive::Entry&) { file.reset(); };
    if (!wanted[i].empty()) sources[i].reader->extract(sink);
  }
  env_.observer.end();

  for (const Put& put : change.puts) stage_entry(put, fmt::format("{}/tree/", directory));
  // Metadata after content, directories last and deepest first, so that nothing disturbs the times again.
  const Owners owners(env_.root);
  for (auto put = change.puts.rbegin(); put != change.puts.rend(); ++put)
    finish_metadata(*put, fmt::format("{}/tree/{}", directory, put->entry.path), owners,
                    put->package == Put::npos ? "hambrel" : sources[put->package].package.name);
}

/// Links: they need what they point to, or nothing.
void Engine::stage_entry(const Put& put, const std::string& tree) {
  const std::string at = tree + put.entry.path;
  if (put.entry.type == EntryType::Symlink) {
    env_.root.make_directories(os::parent_of(at));
    env_.root.make_symlink(put.entry.target, at);
  } else if (put.entry.type == EntryType::HardLink) {
    env_.root.make_directories(os::parent_of(at));
    env_.root.make_hard_link(tree + put.entry.target, at);
  }
}

/// Owner before mode (chown clears set-id bits), then extended attributes (chown clears capabilities too), then the
/// time.
void Engine::finish_metadata(const Put& put, const std::string& at, const Owners& owners, const std::string& package) {
  const FileEntry& entry = put.entry;
  if (entry.type == EntryType::HardLink) return;  // its first name has it all
  if (env_.set_owners) {
    const Owners::Numbers numbers = owners.of(entry, package);
    env_.root.set_owner(at, numbers.uid, numbers.gid);
  }
  if (entry.type != EntryType::Symlink) env_.root.set_mode(at, entry.mode);
  for (const auto& [name, value] : entry.attributes) env_.root.set_attribute(at, name, value);
  if (put.package != Put::npos) env_.root.set_mtime(at, entry.mtime, 0);
}

state::DirectoryAttributes Engine::numbers(const FileEntry& entry, const std::string& path) {
  const Owners::Numbers owner = Owners(env_.root).of(entry, path);
  return {entry.mode, owner.uid, owner.gid};
}

/// Planned moves with the inode numbers that recovery will ask for.
std::vector<Move> Engine::resolve_moves(const TreeChange& change, const std::string& directory) {
  std::vector<Move> moves;
  env_.root.make_directories(directory + "/removed");
  std::size_t removed = 0;
  for (const PlannedMove& planned : change.moves) {
    Move move;
    move.kind = planned.kind;
    move.path = planned.path;
    move.place = planned.kind == MoveKind::Remove ? fmt::format("removed/{}", removed++) : "tree/" + planned.path;
    const auto here = env_.root.stat(planned.path);
    if (planned.kind == MoveKind::Place || planned.kind == MoveKind::Exchange)
      move.inode_new = env_.root.stat(os::join_path(directory, move.place))->inode;
    if (planned.kind == MoveKind::Attributes) {
      move.place.clear();
      move.before = {here->mode, here->uid, here->gid};
      move.after = numbers(planned.after, planned.path);
    } else if (here) {
      move.inode_old = here->inode;
    }
    moves.push_back(std::move(move));
  }
  return moves;
}

}  // namespace hambrel::txn
