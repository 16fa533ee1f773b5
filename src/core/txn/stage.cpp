// Staging: everything new is made below the transaction's directory, whole and with all its metadata.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/error.h"
#include "base/text.h"
#include "txn/engine.h"
#include "txn/owners.h"

namespace hambrel::txn {

using state::Move;
using state::MoveKind;

namespace {

/// Zeros in blocks of this size are left out of what is written: the file gets a hole there.
constexpr std::size_t kHole = 64 << 10;  // bytes

void write_sparsely(os::WritableFile& file, std::string_view data) {
  static const std::string zeros(kHole, '\0');
  while (!data.empty()) {
    const std::string_view piece = data.substr(0, kHole);
    if (piece == zeros)
      file.skip(kHole);
    else
      file.write(piece);
    data.remove_prefix(piece.size());
  }
}

std::string tree_of(const std::string& home, const std::string& directory) {
  return fmt::format("{}/{}/tree", home, directory);
}

std::string staged_path(const Put& put, const std::string& directory) {
  return fmt::format("{}/{}", tree_of(put.home, directory), put.entry.path);
}

}  // namespace

/// A fresh directory for the transaction in each home. A home on another mount is made, or must be as we make it: what
/// lies in it becomes part of the system.
void Engine::make_stages(const TreeChange& change, const std::string& directory) {
  std::set<std::string> homes{kHome};
  for (const Put& put : change.puts) homes.insert(put.home);
  for (const PlannedMove& move : change.moves)
    if (move.kind != MoveKind::Attributes) homes.insert(move.home);
  for (const std::string& home : homes) {
    const auto there = env_.root.stat(home);
    if (home == kHome) {
      env_.root.make_directories(home);
    } else if (!there) {
      env_.root.make_directory(home, 0700);
    } else if (there->type != os::FileType::Directory || (there->mode & 0022U) != 0 ||
               there->uid != env_.root.stat_followed(kHome)->uid) {
      throw Error(ErrorCode::Refused, "is not a directory that only Hambrel writes to", env_.root.shown(home),
                  "move it away: this is where files for its file system are made ready");
    }
    const std::string own = os::join_path(home, directory);
    env_.root.remove_tree(own);
    env_.root.make_directories(os::parent_of(own));
    env_.root.make_directory(own, 0700);
    env_.root.make_directories(own + "/tree");
    env_.root.make_directories(own + "/removed");
  }
}

void Engine::remove_stages(const std::string& directory) {
  for (const std::string& home : Homes::all(env_.root)) env_.root.remove_tree(os::join_path(home, directory));
  tidy_up();
}

void Engine::stage(const TreeChange& change, const std::vector<Source>& sources, const std::string& directory) {
  make_stages(change, directory);
  std::vector<std::map<std::string, const Put*>> wanted(sources.size());
  for (const Put& put : change.puts) {
    if (put.entry.type == EntryType::File) wanted[put.package].emplace(put.source, &put);
  }
  for (const Put& put : change.puts) {
    go_on();
    if (put.entry.type == EntryType::Directory) env_.root.make_directories(staged_path(put, directory));
  }

  env_.observer.begin("staging", change.staged_bytes, Observer::Unit::Bytes);
  ByteCount done = 0;
  std::unique_ptr<os::WritableFile> file;
  for (std::size_t i = 0; i < sources.size(); ++i) {
    archive::PackageReader::Sink sink;
    sink.want = [&](const archive::Entry& one) { return wanted[i].contains(one.path); };
    sink.begin = [&](const archive::Entry& one) {
      const std::string at = staged_path(*wanted[i].at(one.path), directory);
      env_.root.make_directories(os::parent_of(at));
      file = env_.root.create(at, 0600);
    };
    sink.data = [&](const archive::Entry&, std::string_view data) {
      go_on();
      write_sparsely(*file, data);
      env_.observer.progress(done += data.size());
    };
    sink.end = [&](const archive::Entry&) { file.reset(); };
    if (!wanted[i].empty()) sources[i].reader->extract(sink);
  }
  env_.observer.end();

  for (const Put& put : change.puts) {
    go_on();
    stage_link(put, directory);
  }
  // Metadata after content, directories last and deepest first, so that nothing disturbs the times again.
  const Owners owners(env_.root);
  for (auto put = change.puts.rbegin(); put != change.puts.rend(); ++put)
    finish_metadata(*put, staged_path(*put, directory), owners,
                    put->package == Put::npos ? "hambrel" : sources[put->package].package.name);
}

/// Links: they need what they point to, or nothing.
void Engine::stage_link(const Put& put, const std::string& directory) {
  const std::string at = staged_path(put, directory);
  if (put.entry.type == EntryType::Symlink) {
    env_.root.make_directories(os::parent_of(at));
    env_.root.make_symlink(put.entry.target, at);
  } else if (put.entry.type == EntryType::HardLink) {
    env_.root.make_directories(os::parent_of(at));
    env_.root.make_hard_link(os::join_path(tree_of(put.home, directory), put.entry.target), at);
  }
}

/// Owner before mode (chown clears set-id bits), then extended attributes (chown clears capabilities too), then the
/// time. An inherited access list comes before the mode, which narrows it as it would have in its place.
void Engine::finish_metadata(const Put& put, const std::string& at, const Owners& owners, const std::string& package) {
  const FileEntry& entry = put.entry;
  if (entry.type == EntryType::HardLink) return;  // its first name has it all
  const bool directory = entry.type == EntryType::Directory, link = entry.type == EntryType::Symlink;
  if (env_.set_owners) {
    const Owners::Numbers numbers = owners.of(entry, package);
    env_.root.set_owner(at, numbers.uid, put.group.value_or(numbers.gid));
  }
  if (!put.default_acl.empty() && !link) {
    env_.root.set_attribute(at, "system.posix_acl_access", put.default_acl);
    if (directory) env_.root.set_attribute(at, "system.posix_acl_default", put.default_acl);
  }
  if (!link) env_.root.set_mode(at, entry.mode | (directory && put.group ? kSetGroup : 0));
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
  std::size_t removed = 0;
  for (const PlannedMove& planned : change.moves) {
    Move move;
    move.kind = planned.kind;
    move.path = planned.path;
    move.home = planned.home;
    move.place = planned.kind == MoveKind::Remove ? fmt::format("removed/{}", removed++) : "tree/" + planned.path;
    const auto here = env_.root.stat(planned.path);
    if (planned.kind == MoveKind::Place || planned.kind == MoveKind::Exchange)
      move.inode_new = env_.root.stat(place_of(move, directory))->inode;
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
