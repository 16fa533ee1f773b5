// Staging: everything new is made below the transaction's directory, whole and with all its metadata.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <exception>
#include <future>
#include <list>
#include <map>
#include <mutex>
#include <set>
#include <span>
#include <thread>
#include <unordered_map>
#include <unordered_set>

#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "base/text_map.h"
#include "os/neighbours.h"
#include "txn/disk_facts.h"
#include "txn/engine.h"
#include "txn/owners.h"
#include "txn/portions.h"

namespace hambrel::txn {

using state::Move;
using state::MoveKind;

namespace {

/// Zeros in blocks of this size are left out of what is written: the file gets a hole there.
constexpr std::size_t kHole = 64 << 10;  // bytes

/// What lies between two holes in one go: a file system makes better pages of it.
void write_sparsely(os::WritableFile& file, std::string_view data) {
  static const std::string zeros(kHole, '\0');
  while (!data.empty()) {
    std::size_t size = 0;
    while (size < data.size() && data.substr(size, kHole) != zeros) size += kHole;
    if (size > 0) file.write(data.substr(0, size));
    data.remove_prefix(std::min(size, data.size()));
    if (data.empty()) break;
    file.skip(kHole);
    data.remove_prefix(kHole);
  }
}

constexpr std::size_t kFew = 100;     // links, directories or moves that are not worth a thread
constexpr std::size_t kBucket = 512;  // things in one directory of the stage: few directories, none of them long

std::string in_bucket(std::string_view kind, std::size_t number) {
  return fmt::format("{}/{}/{}", kind, number / kBucket, number % kBucket);
}

}  // namespace

/// What is moved by itself has a numbered place; what lies below a directory that is moved as a whole lies there below
/// it. The tree of the root is not mirrored: making its directories would cost more than what goes into them.
Engine::Places::Places(const TreeChange& change) : change_(change) {
  std::map<std::string_view, std::size_t> counts;  // by home
  std::unordered_map<std::string_view, std::size_t> directories;
  places_.reserve(change.puts.size());
  for (std::size_t i = 0; i < change.puts.size(); ++i) {
    const Put& put = change.puts[i];
    const auto parent = directories.find(os::parent_of(put.entry.path));
    places_.push_back(parent != directories.end() ? os::join_path(places_[parent->second], os::name_of(put.entry.path))
                                                  : in_bucket(kTree, counts[put.home]++));
    by_path_.emplace(put.entry.path, i);
    if (put.entry.type == EntryType::Directory) directories.emplace(put.entry.path, i);
  }
}

const std::string& Engine::Places::of(std::string_view path) const { return places_[by_path_.at(path)]; }
const std::string& Engine::Places::of(const Put& put) const {
  return places_[static_cast<std::size_t>(&put - change_.puts.data())];
}
std::string Engine::Places::staged(const Put& put, const std::string& directory) const {
  return fmt::format("{}/{}/{}", put.home, directory, of(put));
}

/// A fresh directory for the transaction in each home. A home on another mount is made, or must be as we make it: what
/// lies in it becomes part of the system.
void Engine::make_stages(const TreeChange& change, const std::string& directory) {
  std::set<std::string> homes{kHome};
  std::map<std::string_view, std::size_t> removals;  // by home
  for (const Put& put : change.puts) homes.insert(put.home);
  for (const PlannedMove& move : change.moves) {
    if (move.kind != MoveKind::Attributes) homes.insert(move.home);
    if (move.kind == MoveKind::Remove) ++removals[move.home];
  }
  env_.root.make_directories(kHome);
  StagingHomes::remember(env_.root, homes);
  for (const std::string& home : homes) {
    const auto there = env_.root.stat(home);
    if (!there) env_.root.make_directory(home, 0700);
    if (home != kHome && there &&
        (there->type != os::FileType::Directory || (there->mode & 0022U) != 0 ||
         there->uid != env_.root.stat_followed(kHome)->uid))
      throw Error(ErrorCode::Refused, "is not a directory that only Hambrel writes to", env_.root.shown(home),
                  "move it away: this is where files for its file system are made ready");
    const std::string own = os::join_path(home, directory);
    env_.root.remove_tree(own);
    env_.root.make_directories(os::parent_of(own));
    env_.root.make_directory(own, 0700);
    env_.root.watch_writes(own);
    for (std::size_t i = 0; i < removals[home]; i += kBucket)
      env_.root.make_directories(os::join_path(own, os::parent_of(in_bucket(kRemoved, i))));
  }
}

void Engine::remove_stages(const std::string& directory) {
  for (const std::string& home : StagingHomes::all(env_.root)) env_.root.remove_tree(os::join_path(home, directory));
  tidy_up();
}

/// The directories that are made in the stage, each once, from the top down, by whatever thread needs it first.
class Engine::StageDirectories {
 public:
  void known(const std::string& path) { made_.insert(path); }
  /// `last` is the thread's own.
  void make(std::string_view path, os::LastDirectory& last) {
    const std::lock_guard lock(mutex_);
    make_locked(path, last);
  }

 private:
  void make_locked(std::string_view path, os::LastDirectory& last) {
    if (made_.contains(path)) return;
    make_locked(os::parent_of(path), last);
    last.of(path).make_directory(os::name_of(path), 0755);
    made_.emplace(path);
  }

  std::mutex mutex_;
  std::unordered_set<std::string, TextHash, std::equal_to<>> made_;
};

void Engine::stage(const TreeChange& change, const std::vector<Source>& sources, const std::string& directory,
                   const Places& places) {
  make_stages(change, directory);
  StageDirectories directories;
  std::set<std::string_view> homes;
  for (const Put& put : change.puts)
    if (homes.insert(put.home).second) directories.known(os::join_path(put.home, directory));
  const auto owner_of = [&](const Put& put) {
    return put.package == Put::npos ? "hambrel" : sources[put.package].package.name;
  };
  const Given given{Owners(env_.root), Labels(env_.root, env_.observer)};
  unpack(change, sources, directory, given, places, directories);
  os::LastDirectory made_last(env_.root);
  for (const Put& put : change.puts) {  // those that nothing was unpacked into
    if (put.entry.type == EntryType::File && put.kept.empty() && !put.content) continue;
    go_on();
    const std::string at = places.staged(put, directory);
    directories.make(put.entry.type == EntryType::Directory ? std::string_view(at) : os::parent_of(at), made_last);
  }
  keep_pristine(change, sources);  // after what needs no waiting for the last package
  stage_kept(change, [&](const Put& put) {
    stage_kept(put, places.staged(put, directory), metadata_of(put, given, owner_of(put)));
  });
  for (const Put& put : change.puts) {
    go_on();
    stage_link(put, directory, places);
  }
  // links and directories last, so that nothing disturbs their times again; those that bar the way after what is below
  constexpr std::uint32_t kPassable = 0500;  // for those who are not root
  std::vector<const Put*> left, bars;
  for (const Put& put : change.puts) {
    if (put.entry.type == EntryType::Directory && (put.entry.mode & kPassable) != kPassable)
      bars.push_back(&put);
    else if (put.entry.type == EntryType::Directory || put.entry.type == EntryType::Symlink)
      left.push_back(&put);
  }
  const auto complete = [&](const Put& put, os::LastDirectory& last) {
    const std::string at = places.staged(put, directory);
    last.of(at).set_metadata(os::name_of(at), metadata_of(put, given, owner_of(put)));
  };
  in_portions(left.size(), env_.workers, kFew, [&](std::size_t first, std::size_t end) {
    os::LastDirectory last(env_.root);
    for (std::size_t i = first; i < end; ++i) complete(*left[i], last);
  });
  os::LastDirectory last(env_.root);
  for (auto put = bars.rbegin(); put != bars.rend(); ++put) complete(**put, last);
}

/// What configuration files are before anybody edits them, each content once, under its digest.
void Engine::keep_pristine(const TreeChange& change, const std::vector<Source>& sources) {
  if (change.pristine.empty()) return;
  if (!env_.root.stat(kPristine)) {
    env_.root.make_directories(kPristine);
    env_.root.set_mode(kPristine, 0700);
  }
  std::map<std::size_t, std::map<std::string_view, Digest>> wanted;  // by package and path in it
  for (const Pristine& one : change.pristine) {
    const std::string place = pristine_place(one.entry.digest);
    if (!one.kept.empty()) {
      const std::string content = env_.root.read_itself(one.kept, one.entry.size);
      if (sha256(content) != one.entry.digest) os::refuse_another(env_.root.shown(one.kept));
      env_.root.replace_cache(place, content, 0600);
    } else {
      wanted[one.package].emplace(one.entry.path, one.entry.digest);
    }
  }
  for (const auto& one : wanted) {
    const std::size_t package = one.first;
    const auto& files = one.second;
    if (sources[package].reader == nullptr) continue;
    const archive::PackageReader& reader = *sources[package].reader;
    const auto& entries = reader.table().entries;
    std::vector<std::size_t> numbers;
    for (const auto& [path, digest] : files)
      if (const archive::Entry* const entry = reader.find(path))
        numbers.push_back(static_cast<std::size_t>(entry - entries.data()));
    std::string content;
    archive::PackageReader::Sink sink;
    sink.begin = [&](std::size_t) { content.clear(); };
    sink.data = [&](std::size_t, std::string_view data) { content += data; };
    sink.end = [&](std::size_t i) {
      const Digest& digest = files.at(entries[numbers[i]].path);
      if (sha256(content) == digest) env_.root.replace_cache(pristine_place(digest), content, 0600);
    };
    archive::FrameDecoder decoder;
    reader.extract(numbers, sink, decoder);
  }
}

constexpr std::chrono::milliseconds kLookAgain{5};  // whether more has arrived

/// Regular files, by several threads: each takes the next portion until none is left or something failed.
void Engine::unpack(const TreeChange& change, const std::vector<Source>& sources, const std::string& directory,
                    const Given& given, const Places& places, StageDirectories& directories) {
  const std::vector<UnpackJob> wanted = jobs_of(change, sources);
  auto all = portions_of(sources, wanted, std::max(env_.workers, 1U));
  const std::size_t count = all.size();
  Portions portions(sources, std::move(all));
  const bool arriving = std::any_of(sources.begin(), sources.end(), [](const Source& one) {
    return one.reader != nullptr && one.reader->arrived() < one.reader->file_size();
  });
  env_.observer.begin(arriving ? "fetching and staging" : "staging", change.staged_bytes, Observer::Unit::Bytes);
  std::mutex telling;
  ByteCount done = 0;
  std::atomic<bool> failed = false;

  const auto work = [&] {
    os::LastDirectory last(env_.root), made_last(env_.root);
    std::string made;  // the directory that was asked for last
    archive::FrameDecoder decoder;
    std::unique_ptr<os::WritableFile> file;
    os::Metadata metadata;
    while (!failed && !portions.empty()) {
      const auto taken = portions.take();
      if (!taken) {
        go_on();
        std::this_thread::sleep_for(kLookAgain);
        continue;
      }
      const Portion& portion = *taken;
      const auto puts = std::span(wanted[portion.source].puts).subspan(portion.first);
      const auto entries = std::span(wanted[portion.source].entries);
      archive::PackageReader::Sink sink;
      sink.begin = [&](std::size_t i) {
        const Put& put = *puts[i];
        metadata = metadata_of(put, given, sources[portion.source].package.name);
        const std::string at = places.staged(put, directory);
        if (const auto parent = os::parent_of(at); parent != made) {
          directories.make(parent, made_last);
          made = parent;
        }
        // nobody else gets into the stage: with its own mode from the start, few files need it set
        file = last.of(at).create(os::name_of(at), *metadata.mode & 0777U);
      };
      sink.data = [&](std::size_t, std::string_view data) {
        go_on();
        write_sparsely(*file, data);
        const std::lock_guard lock(telling);
        env_.observer.progress(done += data.size());
      };
      sink.end = [&](std::size_t) {
        file->finish(metadata);
        file.reset();
      };
      sources[portion.source].reader->extract(entries.subspan(portion.first, portion.last - portion.first), sink,
                                              decoder);
    }
  };
  const auto guarded = [&] {
    try {
      work();
    } catch (...) {
      failed = true;
      throw;
    }
  };
  std::vector<std::future<void>> others;
  for (std::size_t i = 1; i < std::min<std::size_t>(env_.workers, count); ++i)
    others.push_back(std::async(kThread, guarded));
  std::exception_ptr problem;
  const auto keep_first = [&](const auto& run) {
    try {
      run();
    } catch (...) {
      if (!problem) problem = std::current_exception();
    }
  };
  keep_first(guarded);
  for (auto& other : others) keep_first([&] { other.get(); });
  env_.observer.end();
  if (problem) std::rethrow_exception(problem);
}

/// What comes from the attic or was written for it, by several threads where it is much.
void Engine::stage_kept(const TreeChange& change, const std::function<void(const Put&)>& stage_one) {
  std::vector<const Put*> kept;
  for (const Put& put : change.puts)
    if (!put.kept.empty() || put.content) kept.push_back(&put);
  in_portions(kept.size(), env_.workers, kFew, [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) go_on(), stage_one(*kept[i]);
  });
}

/// What the attic holds is linked; configuration is copied: people edit it in place, and the attic must not follow.
void Engine::stage_kept(const Put& put, const std::string& at, const os::Metadata& metadata) {
  if (put.content) {
    const auto to = env_.root.create(at, 0600);
    to->write(*put.content);
    return to->finish(metadata);
  }
  if (put.entry.config) {
    const auto to = env_.root.create(at, 0600);
    // It may lie where others can put something else in its place: what is copied is what was planned for, or nothing.
    if (os::copy_content(*env_.root.open_itself(put.kept), *to, env_.root.shown(put.kept)) != put.entry.digest)
      os::refuse_another(env_.root.shown(put.kept));
    return to->finish(metadata);
  }
  env_.root.make_hard_link(put.kept, at);
  const auto now = env_.root.stat(at);
  const bool as_it_was = now && now->mode == metadata.mode && now->mtime_seconds == metadata.mtime &&
                         (!metadata.owner || *metadata.owner == std::pair(now->uid, now->gid));
  if (!as_it_was) env_.root.set_metadata(at, metadata);
}

/// Links: they need what they point to, or nothing.
void Engine::stage_link(const Put& put, const std::string& directory, const Places& places) {
  const std::string at = places.staged(put, directory);
  if (put.entry.type == EntryType::Symlink) {
    env_.root.make_symlink(put.entry.target, at);
  } else if (put.entry.type == EntryType::HardLink) {
    env_.root.make_hard_link(fmt::format("{}/{}/{}", put.home, directory, places.of(put.entry.target)), at);
  }
}

os::Metadata Engine::metadata_of(const Put& put, const Given& given, const std::string& package) const {
  const FileEntry& entry = put.entry;
  const bool directory = entry.type == EntryType::Directory, link = entry.type == EntryType::Symlink;
  os::Metadata metadata;
  if (env_.set_owners) {
    const Owners::Numbers numbers = given.owners.of(entry, package);
    metadata.owner = {numbers.uid, put.group.value_or(numbers.gid)};
  }
  if (!put.default_acl.empty() && !link) {
    metadata.inherited["system.posix_acl_access"] = put.default_acl;
    if (directory) metadata.inherited["system.posix_acl_default"] = put.default_acl;
  }
  if (!link) metadata.mode = entry.mode | (directory && put.group ? kSetGroup : 0);
  metadata.attributes = entry.attributes;
  metadata.label = given.labels.of(entry);
  if (!put.content && (put.package != Put::npos || !put.kept.empty())) metadata.mtime = entry.mtime;
  return metadata;
}

state::DirectoryAttributes Engine::numbers(const FileEntry& entry, const std::string& path) {
  const Owners::Numbers owner = Owners(env_.root).of(entry, path);
  return {entry.mode, owner.uid, owner.gid};
}

/// Planned moves with the inode numbers that recovery will ask for.
std::vector<Move> Engine::resolve_moves(const TreeChange& change, const std::string& directory, const Places& places) {
  std::vector<Move> moves;
  moves.reserve(change.moves.size());
  std::map<std::string_view, std::size_t> removed;  // by home
  for (const PlannedMove& planned : change.moves) {
    Move& move = moves.emplace_back();
    move.kind = planned.kind;
    move.path = planned.path;
    move.home = planned.home;
    if (planned.kind == MoveKind::Remove)
      move.place = in_bucket(kRemoved, removed[planned.home]++);
    else if (planned.kind != MoveKind::Attributes)
      move.place = places.of(planned.path);
  }
  in_portions(moves.size(), env_.workers, kFew, [&](std::size_t first, std::size_t last) {
    os::Looker in_place(env_.root), in_stage(env_.root);
    for (std::size_t i = first; i < last; ++i) {
      Move& move = moves[i];
      const auto here = in_place.stat(move.path);
      move.plain = !here || here->type != os::FileType::Directory;
      if (move.kind == MoveKind::Place || move.kind == MoveKind::Exchange) {
        const auto staged = in_stage.stat(place_of(move, directory));
        move.inode_new = staged->inode;
        move.plain = move.plain && staged->type != os::FileType::Directory;
      }
      if (move.kind == MoveKind::Attributes) {
        if (!here) throw Error(ErrorCode::Refused, "is gone since this was planned", env_.root.shown(move.path));
        move.inode_old = here->inode;
        move.before = {here->mode, here->uid, here->gid};
        move.after = numbers(*change.moves[i].after, move.path);
      } else if (here) {
        move.inode_old = here->inode;
        move.leaves = here->type == os::FileType::Regular ? here->size : 0;  // directories are empty by then
      }
    }
  });
  return moves;
}

}  // namespace hambrel::txn
