#include "txn/stager.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <map>
#include <mutex>
#include <set>
#include <span>
#include <thread>
#include <unordered_map>
#include <unordered_set>

#include "base/assert.h"
#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "base/text_map.h"
#include "os/host.h"
#include "os/neighbours.h"
#include "txn/disk_facts.h"
#include "txn/moving.h"
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

constexpr std::size_t kFewLinks = 100;  // links, directories or moves that are not worth a thread
constexpr std::size_t kBucket = 512;    // things in one directory of the stage: few directories, none of them long

/// Planning and unpacking many things leave much memory behind, which is not needed any more.
void give_back_much(const TreeChange& change) {
  constexpr std::size_t kMany = 10000;
  if (change.puts.size() > kMany) os::give_memory_back();
}

std::string in_bucket(std::string_view kind, std::size_t number) {
  return fmt::format("{}/{}/{}", kind, number / kBucket, number % kBucket);
}

}  // namespace

/// What is moved by itself has a numbered place; what lies below a directory that is moved as a whole lies there below
/// it. The tree of the root is not mirrored: making its directories would cost more than what goes into them.
Stager::Places::Places(const TreeChange& change) : change_(change) {
  std::map<std::string_view, std::uint32_t> counts;  // by home
  std::unordered_map<std::string_view, std::uint32_t> directories;
  places_.reserve(change.puts.size());
  for (std::size_t i = 0; i < change.puts.size(); ++i) {
    const Put& put = change.puts[i];
    HAMBREL_ASSERT(i == 0 || change.puts[i - 1].entry.path() < put.entry.path(), "puts stand by path, each once");
    const auto parent = directories.find(os::parent_of(put.entry.path()));
    const auto self = static_cast<std::uint32_t>(i);
    if (parent != directories.end())
      places_.push_back({places_[parent->second].top, 0});
    else
      places_.push_back({self, counts[put.home()]++});
    if (put.entry.type() == EntryType::Directory) directories.emplace(put.entry.path(), self);
  }
}

std::string Stager::Places::of(std::string_view path) const {
  const Put* const put = find_put(change_, path);
  HAMBREL_ASSERT(put != nullptr, "what is moved there is put there");
  return of(*put);
}
std::string Stager::Places::of(const Put& put) const {
  const auto number = static_cast<std::size_t>(&put - change_.puts.data());
  HAMBREL_ASSERT(number < places_.size(), "it is one of the change's");
  const std::uint32_t top = places_[number].top;
  return in_bucket(kTree, places_[top].number).append(put.entry.path().substr(change_.puts[top].entry.path().size()));
}
std::string Stager::Places::staged(const Put& put, const std::string& directory) const {
  return fmt::format("{}/{}/{}", put.home(), directory, of(put));
}

std::string Stager::make_stage(const Environment& environment, const std::string& home, const std::string& directory) {
  HAMBREL_ASSERT(!home.empty() && !directory.empty(), "a stage is neither the root nor a home");
  os::FileSystem& root = environment.root;
  const auto there = root.stat(home);
  if (!there) root.make_directory(home, 0700);
  if (home != kHome && there &&
      (there->type != os::FileType::Directory || (there->mode & 0022U) != 0 ||
       there->uid != root.stat_followed_present(kHome).uid))
    throw Error(ErrorCode::Refused, "is not a directory only Hambrel writes to", root.shown(home),
                "move it away: Hambrel stages files for this file system there");
  std::string own = os::join_path(home, directory);
  root.remove_tree(own);
  root.make_directories(os::parent_of(own));
  root.make_directory(own, 0700);
  root.watch_writes(own);
  return own;
}

/// A directory for the transaction in each home.
void Stager::make_stages(const TreeChange& change) {
  std::set<std::string_view> named{kHome};
  std::map<std::string_view, std::size_t> removals;  // by home
  for (const Put& put : change.puts) named.insert(put.home());
  for (const PlannedMove& move : change.moves) {
    if (move.kind != MoveKind::Attributes) named.insert(move.home);
    if (move.kind == MoveKind::Remove) ++removals[move.home];
  }
  const std::set<std::string> homes(named.begin(), named.end());
  env_.root.make_directories(kHome);
  StagingHomes::remember(env_.root, homes);
  for (const std::string& home : homes) {
    const std::string own = make_stage(env_, home, directory_);
    for (std::size_t i = 0; i < removals[home]; i += kBucket)
      env_.root.make_directories(os::join_path(own, os::parent_of(in_bucket(kRemoved, i))));
  }
}

void Stager::drop() {
  HAMBREL_ASSERT(!directory_.empty(), "a home is not removed");
  for (const std::string& home : StagingHomes::all(env_.root)) env_.root.remove_tree(os::join_path(home, directory_));
}

/// The directories that are made in the stage, each once, from the top down, by whatever thread needs it first.
class Stager::StageDirectories {
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

std::vector<Move> Stager::stage(const TreeChange& change, const std::vector<Source>& sources) {
  HAMBREL_ASSERT(!change.moves.empty(), "what is staged is to be moved");
  make_stages(change);
  const Places places(change);
  StageDirectories directories;
  std::set<std::string_view> homes;
  for (const Put& put : change.puts)
    if (homes.insert(put.home()).second) directories.known(os::join_path(put.home(), directory_));
  const Given given{Owners(env_.root, change.users, change.groups), Labels(env_.root, env_.observer)};
  const auto metadata_of_put = [&](const Put& put) {
    return metadata_of(put, given, put.package == Put::npos ? "hambrel" : sources[put.package].package.name);
  };
  unpack(change, sources, given, places, directories);
  give_back_much(change);
  make_directories(change, places, directories);
  keep_pristine(change, sources);  // after what needs no waiting for the last package
  stage_kept(change, [&](const Put& put) { stage_kept(put, places.staged(put, directory_), metadata_of_put(put)); });
  for (const Put& put : change.puts) {
    env_.go_on();
    stage_link(put, places);
  }
  complete(change, places, metadata_of_put);
  return resolve_moves(change, places);
}

/// Those that nothing was unpacked into.
void Stager::make_directories(const TreeChange& change, const Places& places, StageDirectories& directories) {
  os::LastDirectory last(env_.root);
  for (const Put& put : change.puts) {
    if (put.is_unpacked()) continue;
    env_.go_on();
    const std::string at = places.staged(put, directory_);
    directories.make(put.entry.type() == EntryType::Directory ? std::string_view(at) : os::parent_of(at), last);
  }
}

/// Links and directories get their metadata last, so that nothing disturbs their times again; those that bar the way
/// after what is below.
void Stager::complete(const TreeChange& change, const Places& places,
                      const std::function<os::Metadata(const Put&)>& metadata_of_put) {
  constexpr std::uint32_t kPassable = 0500;  // for those who are not root
  std::vector<const Put*> left, bars;
  for (const Put& put : change.puts) {
    if (put.entry.type() == EntryType::Directory && (put.entry.mode() & kPassable) != kPassable)
      bars.push_back(&put);
    else if (put.entry.type() == EntryType::Directory || put.entry.type() == EntryType::Symlink)
      left.push_back(&put);
  }
  const auto complete_one = [&](const Put& put, os::LastDirectory& last) {
    const std::string at = places.staged(put, directory_);
    last.of(at).set_metadata(os::name_of(at), metadata_of_put(put));
  };
  in_portions(left.size(), env_.workers, kFewLinks, [&](std::size_t first, std::size_t end) {
    os::LastDirectory last(env_.root);
    for (std::size_t i = first; i < end; ++i) complete_one(*left[i], last);
  });
  os::LastDirectory last(env_.root);
  for (auto put = bars.rbegin(); put != bars.rend(); ++put) complete_one(**put, last);
}

/// What configuration files are before anybody edits them, each content once, under its digest.
void Stager::keep_pristine(const TreeChange& change, const std::vector<Source>& sources) {
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
    HAMBREL_ASSERT(one.first < sources.size(), "a package that enters has a source");
    const std::size_t package = one.first;
    const auto& files = one.second;
    if (sources[package].reader == nullptr) continue;
    const archive::PackageReader& reader = *sources[package].reader;
    const FileList& list = reader.contents().files();
    std::vector<std::size_t> numbers;
    for (const auto& [path, digest] : files)
      if (const auto number = list.find(path)) numbers.push_back(*number);
    std::string content;
    archive::PackageReader::Sink sink;
    sink.begin = [&](std::size_t) { content.clear(); };
    sink.data = [&](std::size_t, std::string_view data) { content += data; };
    sink.end = [&](std::size_t i) {
      const Digest& digest = files.at(list.path(numbers[i]));
      if (sha256(content) == digest) env_.root.replace_cache(pristine_place(digest), content, 0600);
    };
    archive::FrameDecoder decoder;
    reader.extract(numbers, sink, decoder);
  }
}

constexpr std::chrono::milliseconds kLookAgain{5};  // whether more has arrived

/// Regular files, by several threads: each takes the next portion until none is left or something failed.
class Stager::Unpacking {
 public:
  Unpacking(const Stager& stager, const TreeChange& change, const std::vector<Source>& sources, const Given& given,
            const Places& places, StageDirectories& directories)
      : stager_(stager),
        env_(stager.env_),
        sources_(sources),
        given_(given),
        places_(places),
        directories_(directories),
        wanted_(jobs_of(change, sources)) {
    auto all = portions_of(sources, wanted_, std::max(env_.workers, 1U));
    threads_ = std::clamp<std::size_t>(all.size(), 1, std::max(env_.workers, 1U));
    portions_.emplace(sources, std::move(all));
  }

  void run() {
    by_threads(threads_, [this] {
      try {
        work();
      } catch (...) {
        failed_ = true;
        throw;
      }
    });
  }
  bool is_done() const { return portions_->empty(); }

 private:
  /// What one thread has open.
  struct Hands {
    explicit Hands(os::FileSystem& root) : last(root), made_last(root) {}
    os::LastDirectory last, made_last;
    std::string made;  // the directory that was asked for last
    archive::FrameDecoder decoder;
    std::unique_ptr<os::WritableFile> file;
    os::Metadata metadata;
  };

  void work() {
    Hands hands(env_.root);
    while (!failed_ && !portions_->empty()) {
      if (const auto portion = portions_->take()) {
        unpack(*portion, hands);
        continue;
      }
      env_.go_on();
      std::this_thread::sleep_for(kLookAgain);
    }
  }

  void unpack(const Portion& portion, Hands& hands) {
    const auto puts = std::span(wanted_[portion.source].puts).subspan(portion.first);
    const auto entries = std::span(wanted_[portion.source].entries);
    archive::PackageReader::Sink sink;
    sink.begin = [&](std::size_t i) {
      HAMBREL_ASSERT(hands.file == nullptr, "one file after the other");
      create(*puts[i], sources_[portion.source].package.name, hands);
      HAMBREL_ASSERT(hands.file != nullptr, "it is open");
      const std::lock_guard lock(telling_);
      env_.observer.at(fmt::format("/{}", puts[i]->entry.path()));
    };
    sink.data = [&](std::size_t, std::string_view data) {
      env_.go_on();
      write_sparsely(*hands.file, data);
      const std::lock_guard lock(telling_);
      env_.observer.progress(done_ += data.size());
    };
    sink.end = [&](std::size_t) {
      hands.file->finish(hands.metadata);
      hands.file.reset();
    };
    sources_[portion.source].reader->extract(entries.subspan(portion.first, portion.last - portion.first), sink,
                                             hands.decoder);
  }

  void create(const Put& put, const std::string& package, Hands& hands) {
    hands.metadata = stager_.metadata_of(put, given_, package);
    const std::string at = places_.staged(put, stager_.directory_);
    if (const auto parent = os::parent_of(at); parent != hands.made) {
      directories_.make(parent, hands.made_last);
      hands.made = parent;
    }
    // nobody else gets into the stage: with its own mode from the start, few files need it set
    hands.file = hands.last.of(at).create(os::name_of(at), *hands.metadata.mode & 0777U);
  }

  const Stager& stager_;
  const Environment& env_;
  const std::vector<Source>& sources_;
  const Given& given_;
  const Places& places_;
  StageDirectories& directories_;
  const std::vector<UnpackJob> wanted_;
  std::optional<Portions> portions_;
  std::size_t threads_ = 1;
  std::mutex telling_;
  ByteCount done_ = 0;
  std::atomic<bool> failed_ = false;
};

void Stager::unpack(const TreeChange& change, const std::vector<Source>& sources, const Given& given,
                    const Places& places, StageDirectories& directories) {
  const bool arriving = std::any_of(sources.begin(), sources.end(), [](const Source& one) {
    return one.reader != nullptr && one.reader->arrived() < one.reader->file_size();
  });
  Unpacking unpacking(*this, change, sources, given, places, directories);
  env_.observer.begin(arriving ? "fetching and staging" : "staging", change.staged_bytes, Observer::Unit::Bytes);
  const EndOfProgress end(env_.observer);
  give_back_much(change);
  unpacking.run();
  HAMBREL_ASSERT(unpacking.is_done(), "nothing is left to be unpacked");
}

/// What comes from the attic or was written for it, by several threads where it is much.
void Stager::stage_kept(const TreeChange& change, const std::function<void(const Put&)>& stage_one) {
  std::vector<const Put*> kept;
  for (const Put& put : change.puts)
    if (put.is_here()) kept.push_back(&put);
  in_portions(kept.size(), env_.workers, kFewLinks, [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) {
      env_.go_on();
      stage_one(*kept[i]);
    }
  });
}

/// What the attic holds is linked; configuration is copied: people edit it in place, and the attic must not follow.
/// What is in its place elsewhere is copied, too.
void Stager::stage_kept(const Put& put, const std::string& at, const os::Metadata& metadata) {
  HAMBREL_ASSERT(put.is_here(), "it is here or was written");
  if (put.rest().content) {
    const auto to = env_.root.create(at, 0600);
    to->write(*put.rest().content);
    return to->finish(metadata);
  }
  if (put.entry.config() || !put.rest().same.empty()) {
    const std::string& from = put.rest().kept.empty() ? put.rest().same : put.rest().kept;
    const auto to = env_.root.create(at, 0600);
    // It may lie where others can put something else in its place: what is copied is what was planned for, or nothing.
    if (os::copy_content(*env_.root.open_itself(from), *to, env_.root.shown(from)) != put.entry.digest())
      os::refuse_another(env_.root.shown(from));
    return to->finish(metadata);
  }
  env_.root.make_hard_link(put.rest().kept, at);
  const auto now = env_.root.stat(at);
  const bool as_it_was = now && now->mode == metadata.mode && now->mtime_seconds == metadata.mtime &&
                         (!metadata.owner || *metadata.owner == std::pair(now->uid, now->gid));
  if (!as_it_was) env_.root.set_metadata(at, metadata);
}

/// Links: they need what they point to, or nothing.
void Stager::stage_link(const Put& put, const Places& places) {
  const std::string at = places.staged(put, directory_);
  if (put.entry.type() == EntryType::Symlink) {
    env_.root.make_symlink(put.entry.target(), at);
  } else if (put.entry.type() == EntryType::HardLink) {
    env_.root.make_hard_link(fmt::format("{}/{}/{}", put.home(), directory_, places.of(put.entry.target())), at);
  }
}

os::Metadata Stager::metadata_of(const Put& put, const Given& given, const std::string& package) const {
  const FileEntry entry = put.entry.whole();
  const bool directory = entry.type == EntryType::Directory, link = entry.type == EntryType::Symlink;
  os::Metadata metadata;
  if (env_.set_owners) {
    const Owners::Numbers numbers = given.owners.of(entry, package);
    metadata.owner = {numbers.uid, put.rest().group.value_or(numbers.gid)};
  }
  if (!put.rest().default_acl.empty() && !link) {
    metadata.inherited["system.posix_acl_access"] = put.rest().default_acl;
    if (directory) metadata.inherited["system.posix_acl_default"] = put.rest().default_acl;
  }
  if (!link) metadata.mode = entry.mode | (directory && put.rest().group ? kSetGroup : 0);
  metadata.attributes = entry.attributes;
  metadata.label = given.labels.of(entry);
  if (!put.rest().content && (put.package != Put::npos || !put.rest().kept.empty())) metadata.mtime = entry.mtime;
  return metadata;
}

std::vector<Move> Stager::resolve_moves(const TreeChange& change, const Places& places) {
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
  HAMBREL_ASSERT(moves.size() == change.moves.size(), "each in its turn");
  const Owners owners(env_.root, change.users, change.groups);
  in_portions(moves.size(), env_.workers, kFewLinks, [&](std::size_t first, std::size_t last) {
    os::Looker in_place(env_.root), in_stage(env_.root);
    for (std::size_t i = first; i < last; ++i) resolve(moves[i], change.moves[i], owners, in_place, in_stage);
  });
  return moves;
}

/// What the disk says of one.
void Stager::resolve(Move& move, const PlannedMove& planned, const Owners& owners, os::Looker& in_place,
                     os::Looker& in_stage) const {
  const auto here = in_place.stat(move.path);
  move.plain = !here || here->type != os::FileType::Directory;
  if (move.kind == MoveKind::Place || move.kind == MoveKind::Exchange) {
    const auto staged = in_stage.stat(place_of(move, directory_));
    HAMBREL_ASSERT(staged.has_value(), "what comes was staged");
    move.inode_new = staged->inode;
    move.plain = move.plain && staged->type != os::FileType::Directory;
  }
  if (!here && move.kind != MoveKind::Place)
    throw Error(ErrorCode::Refused, "has disappeared since this was planned", env_.root.shown(move.path),
                "nothing was changed; run the command again");
  if (move.kind == MoveKind::Attributes) {
    HAMBREL_ASSERT(static_cast<bool>(planned.after), "it is known what it becomes");
    const Owners::Numbers owner = owners.of(*planned.after, move.path.string());
    move.inode_old = here->inode;
    move.attributes =
        state::AttributesChange{{here->mode, here->uid, here->gid}, {planned.after->mode, owner.uid, owner.gid}};
  } else if (here) {
    move.inode_old = here->inode;
    move.leaves = here->type == os::FileType::Regular ? here->size : 0;  // directories are empty by then
  }
}

}  // namespace hambrel::txn
