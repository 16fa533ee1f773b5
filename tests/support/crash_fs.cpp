#include "support/crash_fs.h"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <random>

#include "base/digest.h"
#include "base/error.h"
#include "base/text.h"
#include "support/crash_handles.h"

namespace hambrel::test {

CrashFs::CrashFs(const CrashFs& other)
    : mounts_(other.mounts_),
      live_(other.durable_),
      durable_(other.durable_),
      births_(other.births_),
      next_(other.next_),
      clock_(other.clock_) {}

CrashFs::CrashFs(const std::vector<std::string>& mounts) : mounts_(mounts) {
  Node top;
  top.type = FileType::Directory;
  top.mode = 0755;
  live_[kTop] = durable_[kTop] = top;
  for (unsigned i = 0; i < mounts_.size(); ++i) {
    make_directories(mounts_[i]);
    live_.at(*resolve(mounts_[i], true)).disk = i + 1;
  }
  durable_ = live_;
  pending_.clear();
}

void CrashFs::step() {
  ++count_;
  if (crashed()) throw_errno(EIO, "the power is gone", "the disk");
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

CrashFs::InDoubt CrashFs::in_doubt() const {
  const std::lock_guard lock(mutex_);
  InDoubt made;
  made.durable = durable_;
  made.pending = pending_;
  return made;
}

void CrashFs::reboot(Loss loss, std::uint64_t seed) { reboot(in_doubt(), loss, seed); }

void CrashFs::reboot(const InDoubt& from, Loss loss, std::uint64_t seed) {
  const std::lock_guard lock(mutex_);
  durable_ = from.durable;
  std::mt19937_64 random(seed);
  for (const Change& one : from.pending) {
    bool keep = loss == Loss::Nothing || (loss == Loss::Content && !one.content), half = false;
    if (loss == Loss::Some) {
      keep = random() % 2 == 0;
      half = one.content && random() % 3 == 0;
    }
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

CrashFs::At CrashFs::at(std::string_view path) const {
  os::require_clean(path);
  const auto directory = resolve(os::parent_of(path), true);
  if (!directory || live_.at(*directory).type != FileType::Directory) fail(ENOENT, path);
  return {*directory, std::string(os::name_of(path))};
}

CrashFs::Place CrashFs::place(const At& at, bool must_exist) const {
  Place found{at.directory, at.name, std::nullopt};
  const Node& node = live_.at(at.directory);
  if (const auto name = node.names.find(at.name); name != node.names.end()) found.node = name->second;
  if (must_exist && !found.node) fail(ENOENT, at.name);
  return found;
}

std::optional<os::FileInfo> CrashFs::info(std::optional<Id> id) const {
  if (!id) return std::nullopt;
  const Node& node = live_.at(*id);
  os::FileInfo info;
  info.type = node.type;
  info.mode = node.mode;
  info.uid = node.uid;
  info.gid = node.gid;
  info.size = node.content.size();
  info.mtime_seconds = node.seconds;
  info.mtime_nanoseconds = node.nanoseconds;
  info.inode = *id;
  info.device = info.mount = node.disk + 1;
  info.links = 1;  // nobody asks
  return info;
}

std::optional<os::FileInfo> CrashFs::stat(std::string_view path) {
  const std::lock_guard lock(mutex_);
  return info(resolve(path, false));
}
std::optional<os::FileInfo> CrashFs::stat_followed(std::string_view path) {
  const std::lock_guard lock(mutex_);
  return info(resolve(path, true));
}
std::string CrashFs::read_link(std::string_view path) {
  const std::lock_guard lock(mutex_);
  return live_.at(*place(at(path), true).node).content;
}

std::vector<std::string> CrashFs::list(std::string_view path) {
  const std::lock_guard lock(mutex_);
  const auto id = resolve(path, true);
  if (!id) fail(ENOENT, path);
  std::vector<std::string> names;
  for (const auto& [name, to] : live_.at(*id).names) names.push_back(name);
  return names;
}

std::unique_ptr<os::ReadableFile> CrashFs::open(std::string_view path) {
  const std::lock_guard lock(mutex_);
  const auto id = resolve(path, true);
  if (!id) fail(ENOENT, path);
  return std::make_unique<OpenFile>(*this, *id);
}

std::unique_ptr<os::ReadableFile> CrashFs::open_itself(std::string_view path) {
  const std::lock_guard lock(mutex_);
  const Id id = *place(at(path), true).node;
  if (live_.at(id).type != FileType::Regular) fail(ELOOP, path);
  return std::make_unique<OpenFile>(*this, id);
}

std::shared_ptr<const Bytes> CrashFs::map(std::string_view path) {
  return std::make_shared<OwnedBytes>(read_all(path, UINT64_MAX >> 1U));
}

os::ExtendedAttributes CrashFs::attributes(std::string_view path) {
  const std::lock_guard lock(mutex_);
  const auto id = resolve(path, false);
  if (!id) fail(ENOENT, path);
  return live_.at(*id).attributes;
}

std::string CrashFs::real_path(std::string_view directory) {
  const std::lock_guard lock(mutex_);
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

CrashFs::Id CrashFs::add(const At& name, Node node) {
  const Place at = place(name, false);
  if (at.node) fail(EEXIST, at.name);
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
  const std::lock_guard lock(mutex_);
  return std::make_unique<File>(*this, create_in(at(path), mode));
}

CrashFs::Id CrashFs::create_in(const At& name, std::uint32_t mode) {
  const std::lock_guard lock(mutex_);
  step();
  Node node;
  node.mode = mode;
  return add(name, node);
}

std::unique_ptr<os::WritableFile> CrashFs::append(std::string_view path) {
  const std::lock_guard lock(mutex_);
  const auto id = resolve(path, false);
  if (!id) fail(ENOENT, path);
  return std::make_unique<File>(*this, *id, live_.at(*id).content.size());
}

std::unique_ptr<os::DatabaseFile> CrashFs::open_database(std::string_view path, std::uint32_t mode) {
  const std::lock_guard lock(mutex_);
  const auto there = place(at(path), false).node;
  if (there && live_.at(*there).type != FileType::Regular) fail(ELOOP, path);
  return std::make_unique<Database>(*this, there ? *there : create_in(at(path), mode));
}

std::unique_ptr<os::Directory> CrashFs::open_directory(std::string_view path) {
  const std::lock_guard lock(mutex_);
  const auto id = resolve(path, true);
  if (!id || live_.at(*id).type != FileType::Directory) fail(ENOENT, path);
  return std::make_unique<Directory>(*this, *id);
}

CrashFs::Id CrashFs::enter(const At& name) const {
  const std::lock_guard lock(mutex_);
  const Id id = *place(name, true).node;
  if (live_.at(id).type != FileType::Directory) fail(ENOTDIR, name.name);
  return id;
}

std::optional<os::FileInfo> CrashFs::stat_in(const At& name) const {
  const std::lock_guard lock(mutex_);
  return info(name.name.empty() ? name.directory : place(name, false).node);
}

std::vector<std::string> CrashFs::names_in(Id directory) const {
  const std::lock_guard lock(mutex_);
  std::vector<std::string> names;
  for (const auto& [name, to] : live_.at(directory).names) names.push_back(name);
  return names;
}

void CrashFs::make_directory(std::string_view path, std::uint32_t mode) {
  const std::lock_guard lock(mutex_);
  make_directory_in(at(path), mode);
}

void CrashFs::make_directory_in(const At& name, std::uint32_t mode) {
  const std::lock_guard lock(mutex_);
  if (!live_.empty() && next_ > 2) step();
  Node node;
  node.type = FileType::Directory;
  node.mode = mode;
  add(name, node);
}

void CrashFs::make_symlink(std::string_view target, std::string_view path) {
  const std::lock_guard lock(mutex_);
  step();
  Node node;
  node.type = FileType::Symlink;
  node.mode = 0777;
  node.content = target;
  add(at(path), node);
}

void CrashFs::make_whiteout(std::string_view path) {
  const std::lock_guard lock(mutex_);
  step();
  Node node;
  node.type = FileType::Other;
  add(at(path), node);
}

bool CrashFs::is_whiteout(std::string_view path) {
  const std::lock_guard lock(mutex_);
  const auto id = resolve(path, false);
  return id && live_.at(*id).type == FileType::Other;
}

void CrashFs::make_hard_link(std::string_view existing, std::string_view path) {
  const std::lock_guard lock(mutex_);
  make_hard_link_in(at(existing), at(path));
}

void CrashFs::make_hard_link_in(const At& existing, const At& path) {
  const std::lock_guard lock(mutex_);
  step();
  const Place from = place(existing, true), to = place(path, false);
  if (to.node) fail(EEXIST, path.name);
  const Id id = *from.node;
  const Node& birth = births_.at(id);
  if (birth.disk != live_.at(to.directory).disk) fail(EXDEV, path.name);
  change({birth.disk, {to.directory}, 0, false, [to, id, birth](Disk& disk, bool) {
            const auto directory = disk.find(to.directory);
            if (directory == disk.end() || directory->second.names.contains(to.name)) return;
            put_node(disk, id, birth);
            directory->second.names[to.name] = id;
          }});
}

void CrashFs::rename_in(const At& from, const At& to, int mode) {
  const std::lock_guard lock(mutex_);
  step();
  const Place a = place(from, true), b = place(to, mode == kExchange);
  if (mode == kNoReplace && b.node) fail(EEXIST, to.name);
  const unsigned disk = live_.at(a.directory).disk;
  if (disk != live_.at(b.directory).disk) fail(EXDEV, to.name);
  if (live_.at(*a.node).disk != disk || (b.node && live_.at(*b.node).disk != disk)) fail(EBUSY, to.name);
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

void CrashFs::rename(std::string_view from, std::string_view to) {
  const std::lock_guard lock(mutex_);
  rename_in(at(from), at(to), kReplace);
}
void CrashFs::rename_no_replace(std::string_view from, std::string_view to) {
  const std::lock_guard lock(mutex_);
  rename_in(at(from), at(to), kNoReplace);
}
void CrashFs::rename_exchange(std::string_view a, std::string_view b) {
  const std::lock_guard lock(mutex_);
  rename_in(at(a), at(b), kExchange);
}

void CrashFs::remove_file(std::string_view path) {
  const std::lock_guard lock(mutex_);
  remove_in(at(path), false);
}
void CrashFs::remove_directory(std::string_view path) {
  const std::lock_guard lock(mutex_);
  remove_in(at(path), true);
}

void CrashFs::remove_in(const At& name, bool directory) {
  const std::lock_guard lock(mutex_);
  step();
  const Place at = place(name, true);
  const Node& node = live_.at(*at.node);
  if (directory != (node.type == FileType::Directory)) fail(directory ? ENOTDIR : EISDIR, at.name);
  if (!node.names.empty()) fail(ENOTEMPTY, at.name);
  change({live_.at(at.directory).disk, {at.directory}, 0, false, [at](Disk& disk, bool) {
            const auto parent = disk.find(at.directory);
            if (parent == disk.end()) return;
            const auto found = parent->second.names.find(at.name);
            if (found == parent->second.names.end()) return;
            const auto gone = disk.find(found->second);
            if (gone == disk.end() || gone->second.names.empty()) parent->second.names.erase(found);
          }});
}

void CrashFs::set_owner(std::string_view path, std::uint32_t uid, std::uint32_t gid) {
  const std::lock_guard lock(mutex_);
  set_owner_in(at(path), uid, gid);
}
void CrashFs::set_mode(std::string_view path, std::uint32_t mode) {
  const std::lock_guard lock(mutex_);
  set_mode_in(at(path), mode);
}
void CrashFs::set_attribute(std::string_view path, const std::string& name, std::string_view value) {
  const std::lock_guard lock(mutex_);
  set_attribute_in(at(path), name, value);
}
void CrashFs::set_mtime(std::string_view path, std::int64_t seconds, std::int64_t nanoseconds) {
  const std::lock_guard lock(mutex_);
  if (!path.empty()) return set_mtime_in(at(path), seconds, nanoseconds);
  set_mtime_in({kTop, ""}, seconds, nanoseconds);
}

void CrashFs::set_owner_in(const At& name, std::uint32_t uid, std::uint32_t gid) {
  const std::lock_guard lock(mutex_);
  step();
  const Id id = *place(name, true).node;
  change({live_.at(id).disk, {}, id, false, [id, uid, gid](Disk& disk, bool) {
            if (const auto node = disk.find(id); node != disk.end()) {
              node->second.uid = uid;
              node->second.gid = gid;
              if (node->second.type == FileType::Regular) node->second.mode &= ~06000U;  // as chown(2) does
              node->second.attributes.erase("security.capability");
            }
          }});
}

void CrashFs::set_mode_in(const At& name, std::uint32_t mode) {
  const std::lock_guard lock(mutex_);
  step();
  const Id id = *place(name, true).node;
  change({live_.at(id).disk, {}, id, false, [id, mode](Disk& disk, bool) {
            if (const auto node = disk.find(id); node != disk.end()) node->second.mode = mode;
          }});
}

void CrashFs::set_attribute_in(const At& at, const std::string& name, std::string_view value) {
  const std::lock_guard lock(mutex_);
  step();
  const Id id = *place(at, true).node;
  change({live_.at(id).disk, {}, id, false, [id, name, text = std::string(value)](Disk& disk, bool) {
            if (const auto node = disk.find(id); node != disk.end()) node->second.attributes[name] = text;
          }});
}

void CrashFs::set_mtime_in(const At& at, std::int64_t seconds, std::int64_t nanoseconds) {
  const std::lock_guard lock(mutex_);
  step();
  const Id id = at.name.empty() ? at.directory : *place(at, true).node;
  change({live_.at(id).disk, {}, id, false, [id, seconds, nanoseconds](Disk& disk, bool) {
            if (const auto node = disk.find(id); node != disk.end()) {
              node->second.seconds = seconds;
              node->second.nanoseconds = nanoseconds;
            }
          }});
}

void CrashFs::sync_directory(std::string_view path) {
  const std::lock_guard lock(mutex_);
  step();
  const auto id = resolve(path, true);
  if (!id) fail(ENOENT, path);
  settle([&](const Change& one) { return std::find(one.names.begin(), one.names.end(), *id) != one.names.end(); });
}

void CrashFs::sync_all(std::string_view path) {
  const std::lock_guard lock(mutex_);
  step();
  const auto id = resolve(path, true);
  if (!id) fail(ENOENT, path);
  settle([disk = live_.at(*id).disk](const Change& one) { return one.disk == disk; });
}

}  // namespace hambrel::test
