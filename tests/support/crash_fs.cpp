#include "support/crash_fs.h"

#include <fmt/format.h>
#include <sqlite3.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <random>

#include "base/digest.h"
#include "base/error.h"
#include "base/text.h"

namespace hambrel::test {

namespace {

using os::FileType;

constexpr CrashFs::Id kTop = 1;
constexpr const char* kPrefix = "/@crash/";
enum RenameMode { kReplace, kNoReplace, kExchange };

std::map<std::string, CrashFs*>& all_disks() {
  static std::map<std::string, CrashFs*> disks;
  return disks;
}

[[noreturn]] void fail(int problem, std::string_view path) { throw_errno(problem, "cannot do it", path); }

class File final : public os::WritableFile {
 public:
  File(CrashFs& disk, CrashFs::Id id, std::uint64_t at = 0) : disk_(disk), id_(id), at_(at) {}
  using os::WritableFile::write;
  void write(std::span<const std::byte> data) override {
    disk_.write_at(id_, at_, {reinterpret_cast<const char*>(data.data()), data.size()});
    at_ += data.size();
  }
  void skip(std::uint64_t size) override { disk_.truncate(id_, at_ += size); }
  void sync() override { disk_.sync_file(id_); }
  void finish(const os::Metadata& metadata) override { disk_.set_metadata_of(id_, metadata); }

 private:
  CrashFs& disk_;
  CrashFs::Id id_;
  std::uint64_t at_;
};

}  // namespace

std::string CrashFs::enter() {
  static int count = 0;
  const std::string number = std::to_string(++count);
  all_disks()[number] = this;
  return number;
}

CrashFs::CrashFs(const CrashFs& other)
    : mounts_(other.mounts_),
      live_(other.durable_),
      durable_(other.durable_),
      births_(other.births_),
      next_(other.next_),
      clock_(other.clock_),
      number_(enter()) {}

CrashFs::CrashFs(const std::vector<std::string>& mounts) : mounts_(mounts), number_(enter()) {
  Node top;
  top.type = FileType::Directory, top.mode = 0755;
  live_[kTop] = durable_[kTop] = top;
  for (unsigned i = 0; i < mounts_.size(); ++i) {
    make_directories(mounts_[i]);
    live_.at(*resolve(mounts_[i], true)).disk = i + 1;
  }
  durable_ = live_;
  pending_.clear();
}

CrashFs::~CrashFs() { all_disks().erase(number_); }

std::string CrashFs::sqlite_path(const std::string& path) const { return kPrefix + number_ + "/" + path; }

void CrashFs::step() {
  ++count_;
  if (crashed()) throw_errno(EIO, "the power is gone", "disk " + number_);
}

void CrashFs::change(Change one) {
  one.apply(live_, false);
  pending_.push_back(std::move(one));
}

/// A node whose name became durable before anything else of it did.
void CrashFs::put_node(Disk& disk, Id id, const Node& birth) { disk.emplace(id, birth); }

void CrashFs::settle(const std::function<bool(const Change&)>& which) {
  std::vector<Change> rest;
  for (Change& one : pending_) {
    if (!which(one)) {
      rest.push_back(std::move(one));
      continue;
    }
    for (const Id directory : one.names)  // it may be on the disk before its own name is
      if (directory != kTop) put_node(durable_, directory, births_.at(directory));
    one.apply(durable_, false);
  }
  pending_ = std::move(rest);
}

void CrashFs::reboot(Loss loss, std::uint64_t seed) {
  std::mt19937_64 random(seed);
  for (const Change& one : pending_) {
    bool keep = loss == Loss::Nothing || (loss == Loss::Content && !one.content), half = false;
    if (loss == Loss::Some) keep = random() % 2 == 0, half = one.content && random() % 3 == 0;
    if (keep || half) one.apply(durable_, half);
  }
  live_ = durable_;
  pending_.clear();
  crash_at_ = count_ = 0;
}

std::optional<CrashFs::Id> CrashFs::resolve(std::string_view path, bool follow_last, int depth) const {
  if (depth == 0) os::require_clean(path);
  if (depth > 20) return std::nullopt;
  std::vector<Id> trail{kTop};
  std::vector<std::string> parts;
  for (const std::string_view part : split(path, '/'))
    if (!part.empty()) parts.emplace_back(part);
  for (std::size_t i = 0; i < parts.size(); ++i) {
    if (parts[i] == ".") continue;
    if (parts[i] == "..") {
      if (trail.size() > 1) trail.pop_back();
      continue;
    }
    const Node& directory = live_.at(trail.back());
    const auto found = directory.names.find(parts[i]);
    if (directory.type != FileType::Directory || found == directory.names.end()) return std::nullopt;
    const Node& node = live_.at(found->second);
    if (node.type != FileType::Symlink || (i + 1 == parts.size() && !follow_last)) {
      trail.push_back(found->second);
      continue;
    }
    std::vector<std::string> before(parts.begin(), parts.begin() + static_cast<std::ptrdiff_t>(i));
    std::vector<std::string> after(parts.begin() + static_cast<std::ptrdiff_t>(i) + 1, parts.end());
    const std::string whole =
        (node.content.starts_with("/") ? "" : join(before, "/") + "/") + node.content + "/" + join(after, "/");
    return resolve(whole, follow_last, depth + 1);
  }
  return trail.back();
}

CrashFs::Place CrashFs::place(std::string_view path, bool must_exist) {
  os::require_clean(path);
  const auto directory = resolve(os::parent_of(path), true);
  if (!directory || live_.at(*directory).type != FileType::Directory) fail(ENOENT, path);
  Place at{*directory, std::string(os::name_of(path)), std::nullopt};
  const Node& node = live_.at(*directory);
  if (const auto found = node.names.find(at.name); found != node.names.end()) at.node = found->second;
  if (must_exist && !at.node) fail(ENOENT, path);
  return at;
}

std::optional<os::FileInfo> CrashFs::info(std::optional<Id> id) const {
  if (!id) return std::nullopt;
  const Node& node = live_.at(*id);
  os::FileInfo info;
  info.type = node.type, info.mode = node.mode, info.uid = node.uid, info.gid = node.gid;
  info.size = node.content.size();
  info.mtime_seconds = node.seconds, info.mtime_nanoseconds = node.nanoseconds;
  info.inode = *id, info.device = info.mount = node.disk + 1;
  info.links = 1;  // nobody asks
  return info;
}

std::optional<os::FileInfo> CrashFs::stat(std::string_view path) { return info(resolve(path, false)); }
std::optional<os::FileInfo> CrashFs::stat_followed(std::string_view path) { return info(resolve(path, true)); }
std::string CrashFs::read_link(std::string_view path) { return live_.at(*place(path, true).node).content; }

std::vector<std::string> CrashFs::list(std::string_view path) {
  const auto id = resolve(path, true);
  if (!id) fail(ENOENT, path);
  std::vector<std::string> names;
  for (const auto& [name, to] : live_.at(*id).names) names.push_back(name);
  return names;
}

std::unique_ptr<os::ReadableFile> CrashFs::open(std::string_view path) {
  const auto id = resolve(path, true);
  if (!id) fail(ENOENT, path);
  return std::make_unique<os::MemoryFile>(live_.at(*id).content);
}

std::shared_ptr<const Bytes> CrashFs::map(std::string_view path) { fail(ENOTSUP, path); }

os::ExtendedAttributes CrashFs::attributes(std::string_view path) {
  const auto id = resolve(path, false);
  if (!id) fail(ENOENT, path);
  return live_.at(*id).attributes;
}

std::string CrashFs::real_path(std::string_view directory) {
  const auto id = resolve(directory, true);
  if (!id) fail(ENOENT, directory);
  std::vector<std::string> parts;
  Id at = *id;
  while (at != kTop) {
    bool found = false;
    for (const auto& [parent, node] : live_) {
      for (const auto& [name, to] : node.names)
        if (to == at && !found) {
          parts.push_back(name);
          at = parent;
          found = true;
        }
      if (found) break;
    }
    if (!found) fail(ENOENT, directory);
  }
  std::reverse(parts.begin(), parts.end());
  return "/" + join(parts, "/");
}

CrashFs::Id CrashFs::add(std::string_view path, Node node) {
  const Place at = place(path, false);
  if (at.node) fail(EEXIST, path);
  const Id id = next_++;
  node.disk = live_.at(at.directory).disk;
  node.seconds = ++clock_;
  births_[id] = node;
  change({node.disk, {at.directory}, 0, false, [at, id, node](Disk& disk, bool) {
            const auto directory = disk.find(at.directory);
            if (directory == disk.end() || directory->second.names.contains(at.name)) return;
            put_node(disk, id, node);
            directory->second.names[at.name] = id;
          }});
  return id;
}

std::unique_ptr<os::WritableFile> CrashFs::create(std::string_view path, std::uint32_t mode) {
  step();
  Node node;
  node.mode = mode;
  return std::make_unique<File>(*this, add(path, node));
}

std::unique_ptr<os::WritableFile> CrashFs::append(std::string_view path) {
  const auto id = resolve(path, false);
  if (!id) fail(ENOENT, path);
  return std::make_unique<File>(*this, *id, live_.at(*id).content.size());
}

void CrashFs::make_directory(std::string_view path, std::uint32_t mode) {
  if (!live_.empty() && next_ > 2) step();
  Node node;
  node.type = FileType::Directory, node.mode = mode;
  add(path, node);
}

void CrashFs::make_symlink(std::string_view target, std::string_view path) {
  step();
  Node node;
  node.type = FileType::Symlink, node.mode = 0777, node.content = target;
  add(path, node);
}

void CrashFs::make_hard_link(std::string_view existing, std::string_view path) {
  step();
  const Place from = place(existing, true), to = place(path, false);
  if (to.node) fail(EEXIST, path);
  const Id id = *from.node;
  const Node& birth = births_.at(id);
  if (birth.disk != live_.at(to.directory).disk) fail(EXDEV, path);
  change({birth.disk, {to.directory}, 0, false, [to, id, birth](Disk& disk, bool) {
            const auto directory = disk.find(to.directory);
            if (directory == disk.end() || directory->second.names.contains(to.name)) return;
            put_node(disk, id, birth);
            directory->second.names[to.name] = id;
          }});
}

void CrashFs::rename_with(std::string_view from, std::string_view to, int mode) {
  step();
  const Place a = place(from, true), b = place(to, mode == kExchange);
  if (mode == kNoReplace && b.node) fail(EEXIST, to);
  const unsigned disk = live_.at(a.directory).disk;
  if (disk != live_.at(b.directory).disk) fail(EXDEV, to);
  if (live_.at(*a.node).disk != disk || (b.node && live_.at(*b.node).disk != disk)) fail(EBUSY, to);
  change({disk, {a.directory, b.directory}, 0, false, [a, b, mode](Disk& all, bool) {
            const auto x = all.find(a.directory), y = all.find(b.directory);
            if (x == all.end() || y == all.end()) return;
            const auto source = x->second.names.find(a.name);
            if (source == x->second.names.end()) return;
            const Id moved = source->second;
            const auto target = y->second.names.find(b.name);
            if (mode == kExchange) {
              if (target != y->second.names.end()) std::swap(source->second, target->second);
              return;
            }
            if (mode == kNoReplace && target != y->second.names.end()) return;
            x->second.names.erase(source);
            y->second.names[b.name] = moved;
          }});
}

void CrashFs::rename(std::string_view from, std::string_view to) { rename_with(from, to, kReplace); }
void CrashFs::rename_no_replace(std::string_view from, std::string_view to) { rename_with(from, to, kNoReplace); }
void CrashFs::rename_exchange(std::string_view a, std::string_view b) { rename_with(a, b, kExchange); }

void CrashFs::remove_file(std::string_view path) {
  step();
  const Place at = place(path, true);
  if (live_.at(*at.node).type == FileType::Directory) fail(EISDIR, path);
  change({live_.at(at.directory).disk, {at.directory}, 0, false, [at](Disk& disk, bool) {
            if (const auto directory = disk.find(at.directory); directory != disk.end())
              directory->second.names.erase(at.name);
          }});
}

void CrashFs::remove_directory(std::string_view path) {
  step();
  const Place at = place(path, true);
  if (!live_.at(*at.node).names.empty()) fail(ENOTEMPTY, path);
  change({live_.at(at.directory).disk, {at.directory}, 0, false, [at](Disk& disk, bool) {
            const auto directory = disk.find(at.directory);
            if (directory == disk.end()) return;
            const auto found = directory->second.names.find(at.name);
            if (found == directory->second.names.end()) return;
            const auto node = disk.find(found->second);
            if (node == disk.end() || node->second.names.empty()) directory->second.names.erase(found);
          }});
}

void CrashFs::set_owner(std::string_view path, std::uint32_t uid, std::uint32_t gid) {
  step();
  const Id id = *place(path, true).node;
  change({live_.at(id).disk, {}, id, false, [id, uid, gid](Disk& disk, bool) {
            if (const auto node = disk.find(id); node != disk.end()) {
              node->second.uid = uid, node->second.gid = gid;
              if (node->second.type == FileType::Regular) node->second.mode &= ~06000U;  // as chown(2) does
              node->second.attributes.erase("security.capability");
            }
          }});
}

void CrashFs::set_mode(std::string_view path, std::uint32_t mode) {
  step();
  const Id id = *place(path, true).node;
  change({live_.at(id).disk, {}, id, false, [id, mode](Disk& disk, bool) {
            if (const auto node = disk.find(id); node != disk.end()) node->second.mode = mode;
          }});
}

void CrashFs::set_attribute(std::string_view path, const std::string& name, std::string_view value) {
  step();
  const Id id = *place(path, true).node;
  change({live_.at(id).disk, {}, id, false, [id, name, text = std::string(value)](Disk& disk, bool) {
            if (const auto node = disk.find(id); node != disk.end()) node->second.attributes[name] = text;
          }});
}

void CrashFs::set_mtime(std::string_view path, std::int64_t seconds, std::int64_t nanoseconds) {
  step();
  const auto id = path.empty() ? std::optional<Id>(kTop) : place(path, true).node;
  change({live_.at(*id).disk, {}, *id, false, [id, seconds, nanoseconds](Disk& disk, bool) {
            if (const auto node = disk.find(*id); node != disk.end())
              node->second.seconds = seconds, node->second.nanoseconds = nanoseconds;
          }});
}

void CrashFs::set_metadata_of(Id file, const os::Metadata& metadata) {
  step();
  change({live_.at(file).disk, {}, file, false, [file, metadata](Disk& disk, bool) {
            const auto node = disk.find(file);
            if (node == disk.end()) return;
            if (metadata.owner) node->second.uid = metadata.owner->first, node->second.gid = metadata.owner->second;
            if (metadata.mode) node->second.mode = *metadata.mode;
            for (const auto* attributes : {&metadata.inherited, &metadata.attributes})
              for (const auto& [name, value] : *attributes) node->second.attributes[name] = value;
            if (metadata.mtime) node->second.seconds = *metadata.mtime, node->second.nanoseconds = 0;
          }});
}

void CrashFs::sync_directory(std::string_view path) {
  step();
  const auto id = resolve(path, true);
  if (!id) fail(ENOENT, path);
  settle([&](const Change& one) { return std::find(one.names.begin(), one.names.end(), *id) != one.names.end(); });
}

void CrashFs::sync_all(std::string_view path) {
  step();
  const auto id = resolve(path, true);
  if (!id) fail(ENOENT, path);
  settle([disk = live_.at(*id).disk](const Change& one) { return one.disk == disk; });
}

std::optional<CrashFs::Id> CrashFs::find_file(const std::string& path, bool create_it) {
  const auto id = resolve(path, true);
  if (id || !create_it) return id;
  step();
  Node node;
  node.mode = 0644;
  return add(path, node);
}

std::string& CrashFs::content(Id file) { return live_.at(file).content; }

void CrashFs::write_at(Id file, std::uint64_t offset, std::string_view data) {
  step();
  change({live_.at(file).disk, {}, file, true, [file, offset, text = std::string(data)](Disk& disk, bool half) {
            const auto node = disk.find(file);
            if (node == disk.end()) return;
            const std::size_t size = half ? text.size() / 2 : text.size();
            std::string& content = node->second.content;
            if (content.size() < offset + size) content.resize(offset + size, '\0');
            content.replace(offset, size, text, 0, size);
          }});
}

void CrashFs::truncate(Id file, std::uint64_t size) {
  step();
  change({live_.at(file).disk, {}, file, true, [file, size](Disk& disk, bool) {
            if (const auto node = disk.find(file); node != disk.end()) node->second.content.resize(size, '\0');
          }});
}

void CrashFs::sync_file(Id file) {
  step();
  put_node(durable_, file, births_.at(file));
  settle([&](const Change& one) { return one.file == file; });
}

std::map<std::string, std::string> CrashFs::tree(const std::vector<std::string>& without) const {
  std::map<std::string, std::string> result;
  std::map<Id, unsigned> links;
  for (const auto& [id, node] : live_)
    for (const auto& [name, to] : node.names) ++links[to];
  std::vector<std::pair<std::string, Id>> waiting{{"", kTop}};
  while (!waiting.empty()) {
    const auto [path, id] = waiting.back();
    waiting.pop_back();
    const Node& node = live_.at(id);
    if (!path.empty()) {
      std::string facts = fmt::format("{} {:o} {}:{} {}", static_cast<int>(node.type), node.mode, node.uid, node.gid,
                                      node.type == FileType::Directory ? 0 : links[id]);
      if (node.type == FileType::Regular) facts += fmt::format(" {} {}", node.seconds, sha256(node.content).hex());
      if (node.type == FileType::Symlink) facts += " -> " + node.content;
      for (const auto& [name, value] : node.attributes) facts += " " + name + "=" + value;
      result[path] = facts;
    }
    for (const auto& [name, child] : node.names) {
      const std::string below = os::join_path(path, name);
      if (std::find(without.begin(), without.end(), below) == without.end()) waiting.emplace_back(below, child);
    }
  }
  return result;
}

// ---- the VFS: SQLite's files on a CrashFs (https://www.sqlite.org/vfs.html) ----

namespace {

struct VfsFile {
  sqlite3_file base;
  CrashFs* disk;
  CrashFs::Id id;
  bool sync_name;  // a new journal: its name is synced with it, as SQLite's own VFS for Unix does
  char path[256];
};

VfsFile& of(sqlite3_file* file) { return *reinterpret_cast<VfsFile*>(file); }

template <typename Work>
int guarded(int problem, Work work) {
  try {
    work();
    return SQLITE_OK;
  } catch (const Error&) {
    return problem;
  }
}

/// The disk and the path on it that a name means.
std::pair<CrashFs*, std::string> split_name(const char* name) {
  const std::string_view rest = std::string_view(name).substr(std::strlen(kPrefix));
  const auto slash = rest.find('/');
  return {all_disks().at(std::string(rest.substr(0, slash))), std::string(rest.substr(slash + 1))};
}
bool is_ours(const char* name) { return name != nullptr && std::string_view(name).starts_with(kPrefix); }

int vfs_close(sqlite3_file*) { return SQLITE_OK; }
int vfs_read(sqlite3_file* file, void* to, int size, sqlite3_int64 offset) {
  const std::string& content = of(file).disk->content(of(file).id);
  const auto at = static_cast<std::size_t>(offset), want = static_cast<std::size_t>(size);
  const std::size_t got = at < content.size() ? std::min(want, content.size() - at) : 0;
  if (got > 0) std::memcpy(to, content.data() + at, got);
  if (got == want) return SQLITE_OK;
  std::memset(static_cast<char*>(to) + got, 0, want - got);
  return SQLITE_IOERR_SHORT_READ;
}
int vfs_write(sqlite3_file* file, const void* from, int size, sqlite3_int64 offset) {
  return guarded(SQLITE_IOERR_WRITE, [&] {
    of(file).disk->write_at(of(file).id, static_cast<std::uint64_t>(offset),
                            {static_cast<const char*>(from), static_cast<std::size_t>(size)});
  });
}
int vfs_truncate(sqlite3_file* file, sqlite3_int64 size) {
  return guarded(SQLITE_IOERR_TRUNCATE,
                 [&] { of(file).disk->truncate(of(file).id, static_cast<std::uint64_t>(size)); });
}
int vfs_sync(sqlite3_file* file, int) {
  return guarded(SQLITE_IOERR_FSYNC, [&] {
    of(file).disk->sync_file(of(file).id);
    if (of(file).sync_name) of(file).disk->sync_directory(os::parent_of(of(file).path));
    of(file).sync_name = false;
  });
}
int vfs_size(sqlite3_file* file, sqlite3_int64* size) {
  *size = static_cast<sqlite3_int64>(of(file).disk->content(of(file).id).size());
  return SQLITE_OK;
}
int vfs_lock(sqlite3_file*, int) { return SQLITE_OK; }
int vfs_reserved(sqlite3_file*, int* result) { return *result = 0, SQLITE_OK; }
int vfs_control(sqlite3_file*, int, void*) { return SQLITE_NOTFOUND; }
int vfs_sector(sqlite3_file*) { return 512; }
int vfs_traits(sqlite3_file*) { return 0; }

sqlite3_vfs* real_vfs = nullptr;

int vfs_open(sqlite3_vfs*, const char* name, sqlite3_file* file, int flags, int* out) {
  static const sqlite3_io_methods methods{1,           vfs_close,  vfs_read,   vfs_write, vfs_truncate,
                                          vfs_sync,    vfs_size,   vfs_lock,   vfs_lock,  vfs_reserved,
                                          vfs_control, vfs_sector, vfs_traits, nullptr,   nullptr,
                                          nullptr,     nullptr,    nullptr,    nullptr};
  if (!is_ours(name)) return real_vfs->xOpen(real_vfs, name, file, flags, out);
  file->pMethods = nullptr;
  return guarded(SQLITE_CANTOPEN, [&] {
    const auto [disk, path] = split_name(name);
    const bool there = disk->find_file(path, false).has_value();
    const auto id = disk->find_file(path, (flags & SQLITE_OPEN_CREATE) != 0);
    if (!id) fail(ENOENT, path);
    VfsFile& one = of(file);
    one.disk = disk, one.id = *id, one.sync_name = !there;
    std::snprintf(one.path, sizeof one.path, "%s", path.c_str());
    file->pMethods = &methods;
    if (out != nullptr) *out = flags;
  });
}
int vfs_delete(sqlite3_vfs*, const char* name, int sync) {
  if (!is_ours(name)) return real_vfs->xDelete(real_vfs, name, sync);
  const auto [disk, path] = split_name(name);
  if (!disk->find_file(path, false)) return SQLITE_IOERR_DELETE_NOENT;
  return guarded(SQLITE_IOERR_DELETE, [&, disk = disk, path = path] {
    disk->remove_file(path);
    if (sync != 0) disk->sync_directory(os::parent_of(path));
  });
}
int vfs_access(sqlite3_vfs*, const char* name, int flags, int* result) {
  if (!is_ours(name)) return real_vfs->xAccess(real_vfs, name, flags, result);
  const auto [disk, path] = split_name(name);
  *result = disk->find_file(path, false) ? 1 : 0;
  return SQLITE_OK;
}
int vfs_full(sqlite3_vfs*, const char* name, int size, char* out) {
  if (!is_ours(name)) return real_vfs->xFullPathname(real_vfs, name, size, out);
  std::snprintf(out, static_cast<std::size_t>(size), "%s", name);
  return SQLITE_OK;
}

/// The default VFS of the test program from its start on; every other name goes to the one of the system.
const bool kRegistered = [] {
  static sqlite3_vfs vfs;
  real_vfs = sqlite3_vfs_find(nullptr);
  vfs = *real_vfs;
  vfs.zName = "crash";
  vfs.szOsFile = std::max(real_vfs->szOsFile, static_cast<int>(sizeof(VfsFile)));
  vfs.xOpen = vfs_open, vfs.xDelete = vfs_delete, vfs.xAccess = vfs_access, vfs.xFullPathname = vfs_full;
  return sqlite3_vfs_register(&vfs, 1) == SQLITE_OK;
}();

}  // namespace

}  // namespace hambrel::test
