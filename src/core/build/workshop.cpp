#include "build/workshop.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"
#include "base/error.h"
#include "os/host.h"

namespace hambrel::build {

namespace {

constexpr const char* kBelowRoot = "var/cache/hambrel/builds";
constexpr const char* kKept = "kept";

std::string lock_of(const std::string& directory) { return directory + "/private/lock"; }

/// A directory that only its owner enters, of the root or of the host; nothing where this process may not make it.
std::unique_ptr<os::FileSystem> made_in(os::FileSystem& whole, const std::string& path) {
  try {
    whole.make_directories(os::parent_of(path));
    whole.make_if_missing(path, 0700);
    auto files = os::open_file_system(whole.real_path(path));
    for (const char* const one : {"sources", "roots", "builds", "logs", "recipes", "read"})
      files->make_if_missing(one, 0700);
    files->replace_cache("logs/.writable", "", 0600);
    return files;
  } catch (const Error&) {
    return nullptr;
  }
}

ByteCount size_of(os::FileSystem& files, const std::string& path) {
  const auto info = files.stat(path);
  if (!info) return 0;
  if (info->type != os::FileType::Directory) return info->links > 1 ? 0 : info->size;
  ByteCount bytes = 0;
  for (const std::string& name : files.list(path)) bytes += size_of(files, path + "/" + name);
  return bytes;
}

std::unique_ptr<os::Lock> lock_if_free(os::FileSystem& files, const std::string& directory) {
  try {
    return os::take_lock(files, lock_of(directory), 0, "");
  } catch (const Error& problem) {
    if (problem.code() != ErrorCode::Locked) throw;
    return nullptr;
  }
}

void make_writable(os::FileSystem& files, const std::string& path) {
  const auto info = files.stat(path);
  if (!info || info->type != os::FileType::Directory) return;
  constexpr std::uint32_t kOwn = 0700;
  if ((info->mode & kOwn) != kOwn) files.set_mode(path, info->mode | kOwn);
  for (const std::string& name : files.list(path)) make_writable(files, path + "/" + name);
}

/// What builds that were interrupted have left. The workshop is closed.
void clear_left(os::FileSystem& files) {
  for (const std::string& name : files.list("builds")) {
    const std::string directory = "builds/" + name;
    if (files.stat(directory + "/" + kKept)) continue;
    if (const auto lock = lock_if_free(files, directory)) remove_whole(files, directory);
  }
}

}  // namespace

void remove_whole(os::FileSystem& files, const std::string& path) {
  HAMBREL_ASSERT(!path.empty(), "the workshop itself stays");
  if (!os::is_superuser()) make_writable(files, path);
  files.remove_tree(path);
}

Workshop::Workshop(std::unique_ptr<os::FileSystem> files) : files_(std::move(files)), path_(files_->real_path("")) {}

std::unique_ptr<Workshop> Workshop::find(operations::Root& root) {
  const std::string& given = root.settings().build.directory;
  const auto host = os::open_file_system("/");
  std::vector<std::pair<os::FileSystem*, std::string>> places;
  if (!given.empty()) {
    places.emplace_back(host.get(), os::host_path(given));
  } else {
    places.emplace_back(&root.files(), kBelowRoot);
    if (const std::string own = os::own_cache_directory(); !own.empty())
      places.emplace_back(host.get(), os::host_path(own + "/hambrel/builds"));
  }
  for (const auto& [whole, path] : places) {
    try {
      const auto info = whole->stat_followed(path + "/builds");
      if (!info || info->type != os::FileType::Directory) continue;
      return std::unique_ptr<Workshop>(new Workshop(os::open_file_system(whole->real_path(path))));
    } catch (const Error&) {  // somebody else's
    }
  }
  return nullptr;
}

Workshop::Workshop(operations::Root& root) {
  const std::string& given = root.settings().build.directory;
  const auto host = os::open_file_system("/");
  if (!given.empty()) {
    files_ = made_in(*host, os::host_path(given));
  } else {
    files_ = made_in(root.files(), kBelowRoot);
    const std::string own = os::own_cache_directory();
    if (!files_ && !own.empty()) files_ = made_in(*host, os::host_path(own + "/hambrel/builds"));
  }
  if (!files_)
    throw Error(ErrorCode::Io, "there is no directory to build in that can be written to",
                given.empty() ? root.files().shown(kBelowRoot) : given,
                "name one in hambrel.toml: [build] directory = \"...\"");
  path_ = files_->real_path("");
  // what lies there is installed as what was made here
  constexpr std::uint32_t kOthersWrite = 022;
  const auto own = files_->stat("");
  if (own->uid != os::user_id() || (own->mode & kOthersWrite) != 0)
    throw Error(ErrorCode::Refused, "others may write to the directory that packages are built in", path_,
                "name one of your own in hambrel.toml: [build] directory = \"...\"");
}

std::unique_ptr<os::Lock> Workshop::close() {
  constexpr int kWait = 60;  // seconds; it is held for moments
  return os::take_lock(*files_, "private/lock", kWait, "");
}

Bench::Bench(Workshop& workshop, const std::string& name) : workshop_(workshop) {
  os::FileSystem& files = workshop.files();
  const auto closed = workshop.close();
  clear_left(files);
  for (unsigned number = 1;; ++number) {
    directory_ = fmt::format("builds/{}.{}", name, number);
    if (!files.stat(directory_)) break;
  }
  files.make_directory(directory_, 0700);
  lock_ = os::take_lock(files, lock_of(directory_), 0, "");
  files.make_directory(work(), 0755);
}

Bench::~Bench() {
  if (kept_ || directory_.empty()) return;
  try {
    clear();
  } catch (const Error&) {  // the next build does it
  }
}

void Bench::keep(const std::string& root) {
  workshop_.files().replace_cache(directory_ + "/" + kKept, root, 0600);
  kept_ = true;
}

std::optional<KeptBuild> kept_build(Workshop& workshop, const std::string& name) {
  os::FileSystem& files = workshop.files();
  const auto closed = workshop.close();
  std::optional<KeptBuild> found;
  for (const std::string& one : files.list("builds")) {
    const std::string directory = "builds/" + one, kept = directory + "/" + kKept;
    constexpr std::uint64_t kMostPath = 4096;
    if (one.substr(0, one.rfind('.')) != name || !files.stat(kept)) continue;
    if (auto lock = lock_if_free(files, directory))
      found = KeptBuild{directory, files.read_itself(kept, kMostPath), std::move(lock)};
  }
  return found;
}

void Bench::clear() {
  remove_whole(workshop_.files(), directory_);
  directory_.clear();
  lock_.reset();
}

LeftByBuilds left_in(Workshop& workshop) {
  os::FileSystem& files = workshop.files();
  LeftByBuilds left;
  using Kind = LeftByBuilds::Item::Kind;
  const auto closed = workshop.close();
  for (const std::string& name : files.list("builds")) {
    const std::string directory = "builds/" + name;
    if (lock_if_free(files, directory))
      left.items.push_back({Kind::Build, directory, size_of(files, directory), !files.stat(directory + "/" + kKept)});
    else
      left.busy = true;
  }
  const auto all_in = [&](const char* directory, Kind kind) {
    for (const std::string& name : files.list(directory)) {
      const std::string path = std::string(directory) + "/" + name;
      if (!name.starts_with(".") && !name.ends_with(".time"))
        left.items.push_back({kind, path, size_of(files, path), false});
    }
  };
  if (!left.busy) {
    all_in("roots", Kind::Root);
    all_in("sources", Kind::Source);
    all_in("recipes", Kind::Recipe);
  }
  all_in("logs", Kind::Log);
  return left;
}

ByteCount clear(Workshop& workshop, const std::vector<LeftByBuilds::Item>& items) {
  os::FileSystem& files = workshop.files();
  const auto closed = workshop.close();
  bool busy = false;
  for (const std::string& name : files.list("builds")) busy = busy || !lock_if_free(files, "builds/" + name);
  ByteCount bytes = 0;
  for (const LeftByBuilds::Item& one : items) {
    using Kind = LeftByBuilds::Item::Kind;
    if (busy && one.kind != Kind::Build && one.kind != Kind::Log) continue;
    std::unique_ptr<os::Lock> lock;
    if (one.kind == Kind::Build) {
      lock = lock_if_free(files, one.path);
      if (!lock) continue;
    }
    remove_whole(files, one.path);
    bytes += one.bytes;
  }
  return bytes;
}

}  // namespace hambrel::build
