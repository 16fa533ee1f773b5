// FileSystem on Linux: every parent is opened with openat2(RESOLVE_IN_ROOT), every last part handled relative to it.
#include <fcntl.h>
#include <linux/magic.h>
#include <linux/openat2.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/syscall.h>
#include <sys/vfs.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <fstream>
#include <map>
#include <mutex>

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "os/file_system.h"
#include "os/posix_handles.h"

namespace hambrel::os {

namespace {

/// A path in /proc/self/mountinfo, where blanks and the like stand as \ooo.
std::string unescaped(std::string_view text) {
  std::string result;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '\\' || i + 3 >= text.size()) {
      result += text[i];
      continue;
    }
    result += static_cast<char>((text[i + 1] - '0') * 64 + (text[i + 2] - '0') * 8 + (text[i + 3] - '0'));
    i += 3;
  }
  return result;
}

class PosixFileSystem final : public FileSystem {
 public:
  explicit PosixFileSystem(const std::string& root) : root_path_(root) {
    root_ = Handle(::open(root.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC));
    if (root_.get() < 0) throw_errno(errno, "cannot use this directory as root", root);
    while (root_path_.size() > 1 && root_path_.back() == '/') root_path_.pop_back();
    const auto info = look(root_.get(), "");
    if (!info) throw_errno(errno, "cannot read the attributes of", root);
    owner_ = info->uid;
    if ((info->mode & 0020U) != 0) group_ = info->gid;
  }

  std::string shown(std::string_view path) const override {
    if (path.empty()) return root_path_;
    return root_path_ == "/" ? fmt::format("/{}", path) : fmt::format("{}/{}", root_path_, path);
  }

  std::optional<FileInfo> stat(std::string_view path) override {
    const auto at = try_parent(path);
    if (!at) return std::nullopt;
    const auto info = look(at->handle.get(), at->name.c_str());
    if (!info && errno != ENOENT && errno != ENOTDIR) throw_errno(errno, "cannot read the attributes of", shown(path));
    return info;
  }

  std::optional<FileInfo> stat_followed(std::string_view path) override {
    const Handle handle = resolve(path, O_PATH);
    if (handle.get() < 0) {
      if (errno == ENOENT || errno == ENOTDIR) return std::nullopt;
      throw_errno(errno, "cannot read the attributes of", shown(path));
    }
    const auto info = look(handle.get(), "");
    if (!info) throw_errno(errno, "cannot read the attributes of", shown(path));
    return info;
  }

  std::unique_ptr<DirectoryReader> look_into(std::string_view path) override {
    Handle handle = resolve(path, kToLook);
    const bool lists = handle.get() >= 0;
    if (!lists && errno == EACCES) handle = resolve(path, O_PATH | kToLook);
    if (handle.get() < 0 && errno != ENOENT && errno != ENOTDIR)
      throw_errno(errno, "cannot read the attributes of", shown(path));
    if (handle.get() < 0) return nullptr;
    return std::make_unique<PosixDirectoryReader>(std::move(handle), shown(path), lists);
  }

  std::string read_link(std::string_view path) override {
    const auto at = parent(path);
    std::string target(4096, '\0');
    const ssize_t size = ::readlinkat(at.handle.get(), at.name.c_str(), target.data(), target.size());
    if (size < 0) throw_errno(errno, "cannot read the link", shown(path));
    target.resize(static_cast<std::size_t>(size));
    return target;
  }

  std::vector<std::string> list(std::string_view path) override {
    const int fd = resolve_raw(path, O_RDONLY | O_DIRECTORY);
    if (fd < 0) throw_errno(errno, "cannot list the directory", shown(path));
    return names_in(fd, shown(path));
  }

  std::unique_ptr<ReadableFile> open(std::string_view path) override {
    Handle handle = resolve(path, O_RDONLY | O_NONBLOCK);
    struct ::stat raw {};
    if (handle.get() < 0 || ::fstat(handle.get(), &raw) != 0) throw_errno(errno, "cannot open", shown(path));
    if (!S_ISREG(raw.st_mode)) throw Error(ErrorCode::Io, "not a regular file", shown(path));
    return std::make_unique<PosixReadable>(std::move(handle), static_cast<std::uint64_t>(raw.st_size), shown(path));
  }

  std::unique_ptr<ReadableFile> open_itself(std::string_view path) override {
    const auto at = changing_parent(path);
    Handle handle(::openat(at.handle.get(), at.name.c_str(), O_RDONLY | O_NONBLOCK | O_NOFOLLOW | O_CLOEXEC));
    if (handle.get() < 0) throw_errno(errno, "cannot open", shown(path));
    const auto info = look(handle.get(), "");
    if (!info) throw_errno(errno, "cannot read the attributes of", shown(path));
    if (info->type != FileType::Regular) throw Error(ErrorCode::Io, "not a regular file", shown(path));
    return std::make_unique<PosixReadable>(std::move(handle), info->size, shown(path));
  }

  std::optional<std::string> strange_link(std::string_view path) override {
    std::string link;
    (void)walk(parent_of(path), &link);
    return link.empty() ? std::nullopt : std::optional(link);
  }

  bool can_rename_directory(std::string_view path, const FileInfo& info, std::string_view full) override {
    if (!is_overlay(path, info.mount)) return true;
    const auto at = try_parent(path), there = try_parent(full);
    const auto target = stat(full);
    if (!at || !there || !target || target->mount != info.mount || list(full).empty()) return true;
    // An overlay says EXDEV before it looks any further; whatever else happens, nothing is renamed over a directory in
    // which there is something.
    const int done = ::renameat(at->handle.get(), at->name.c_str(), there->handle.get(), there->name.c_str());
    return done == 0 || errno != EXDEV;
  }

  std::shared_ptr<const Bytes> map(std::string_view path) override {
    const Handle handle = resolve(path, O_RDONLY | O_NONBLOCK);
    struct ::stat raw {};
    if (handle.get() < 0 || ::fstat(handle.get(), &raw) != 0) throw_errno(errno, "cannot open", shown(path));
    if (!S_ISREG(raw.st_mode)) throw Error(ErrorCode::Io, "not a regular file", shown(path));
    return std::make_shared<Mapping>(handle, static_cast<std::size_t>(raw.st_size), shown(path));
  }

  ExtendedAttributes attributes(std::string_view path) override {
    ExtendedAttributes result;
    const auto at = parent(path);
    const std::string proc = proc_path(at);
    ssize_t size = ::llistxattr(proc.c_str(), nullptr, 0);  // most have none
    if (size == 0 || (size < 0 && errno == ENOTSUP)) return result;
    std::string names(65536, '\0');
    if (size > 0) size = ::llistxattr(proc.c_str(), names.data(), names.size());
    if (size < 0) throw_errno(errno, "cannot read the extended attributes", shown(path));
    for (std::size_t i = 0; i < static_cast<std::size_t>(size);) {
      const std::string name = names.c_str() + i;
      i += name.size() + 1;
      std::string value(65536, '\0');
      const ssize_t length = ::lgetxattr(proc.c_str(), name.c_str(), value.data(), value.size());
      if (length < 0) throw_errno(errno, "cannot read the extended attribute " + name, shown(path));
      value.resize(static_cast<std::size_t>(length));
      result.emplace(name, std::move(value));
    }
    return result;
  }

  Space space(std::string_view path) override {
    const Handle handle = resolve(path, O_RDONLY | O_DIRECTORY);
    struct ::statvfs raw {};
    if (handle.get() < 0 || ::fstatvfs(handle.get(), &raw) != 0)
      throw_errno(errno, "cannot ask for the free space", shown(path));
    return {raw.f_bavail * raw.f_frsize, raw.f_favail, raw.f_files};
  }

  std::string real_path(std::string_view directory) override {
    const Handle handle = resolve(directory, O_PATH | O_DIRECTORY);
    if (handle.get() < 0) throw_errno(errno, "cannot reach the directory", shown(directory));
    std::string path(4096, '\0');
    const ssize_t size = ::readlink(fmt::format("/proc/self/fd/{}", handle.get()).c_str(), path.data(), path.size());
    if (size < 0) throw_errno(errno, "cannot reach the directory", shown(directory));
    path.resize(static_cast<std::size_t>(size));
    return path;
  }

  std::vector<std::string> mount_points() override {
    const std::string top = real_path("");
    const std::string prefix = top == "/" ? top : top + "/";
    std::vector<std::string> points;
    std::ifstream table("/proc/self/mountinfo");
    for (std::string line; std::getline(table, line);) {
      const auto fields = split(line, ' ');  // proc(5): the fifth is the mount point
      if (fields.size() < 5) continue;
      const std::string point = unescaped(fields[4]);
      if (point.starts_with(prefix) && point.size() > prefix.size()) points.push_back(point.substr(prefix.size()));
    }
    std::sort(points.begin(), points.end());
    points.erase(std::unique(points.begin(), points.end()), points.end());
    return points;
  }

  std::unique_ptr<WritableFile> create(std::string_view path, std::uint32_t mode) override {
    const auto at = changing_parent(path);
    Handle handle = create_in(*creation_, at.handle.get(), at.name, mode);
    if (handle.get() < 0) throw_errno(errno, "cannot create", shown(path));
    return std::make_unique<PosixWritable>(std::move(handle), shown(path), creation_);
  }

  std::unique_ptr<WritableFile> append(std::string_view path) override {
    const auto at = changing_parent(path);
    Handle handle(
        ::openat(at.handle.get(), at.name.c_str(), O_WRONLY | O_APPEND | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK));
    if (handle.get() < 0) throw_errno(errno, "cannot open to write", shown(path));
    struct stat raw {};
    if (::fstat(handle.get(), &raw) != 0) throw_errno(errno, "cannot read the attributes of", shown(path));
    if (!S_ISREG(raw.st_mode)) throw Error(ErrorCode::Io, "is not a regular file", shown(path));
    return std::make_unique<PosixWritable>(std::move(handle), shown(path), creation_);
  }

  std::unique_ptr<DatabaseFile> open_database(std::string_view path, std::uint32_t mode) override {
    const auto at = changing_parent(path);
    constexpr int kFlags = O_RDWR | O_CREAT | O_NONBLOCK | O_NOFOLLOW | O_CLOEXEC;
    Handle handle(::openat(at.handle.get(), at.name.c_str(), kFlags, mode));
    if (handle.get() < 0) throw_errno(errno, "cannot open", shown(path));
    const auto info = look(handle.get(), "");
    if (!info) throw_errno(errno, "cannot read the attributes of", shown(path));
    if (info->type != FileType::Regular || info->links != 1)
      throw Error(ErrorCode::Untrusted, "is not a regular file with one name", shown(path),
                  "look at it with ls -li: somebody put it there; move it away");
    return std::make_unique<PosixDatabaseFile>(std::move(handle), shown(path));
  }

  std::unique_ptr<Directory> open_directory(std::string_view path) override {
    Handle handle = walk(path);
    if (handle.get() < 0) throw_errno(errno, "cannot reach the directory", shown(path));
    return std::make_unique<PosixDirectory>(std::move(handle), shown(path), creation_);
  }

  void make_directory(std::string_view path, std::uint32_t mode) override {
    const auto at = changing_parent(path);
    if (make_directory_in(*creation_, at.handle.get(), at.name, mode) != 0)
      throw_errno(errno, "cannot make the directory", shown(path));
  }

  void make_symlink(std::string_view target, std::string_view path) override {
    const auto at = changing_parent(path);
    if (::symlinkat(std::string(target).c_str(), at.handle.get(), at.name.c_str()) != 0)
      throw_errno(errno, "cannot make the symbolic link", shown(path));
  }

  void make_hard_link(std::string_view existing, std::string_view path) override {
    const auto from = parent(existing), to = changing_parent(path);
    if (::linkat(from.handle.get(), from.name.c_str(), to.handle.get(), to.name.c_str(), 0) != 0)
      throw_errno(errno, "cannot make the hard link to " + shown(existing), shown(path));
  }

  void rename(std::string_view from, std::string_view to) override { rename_with(from, to, 0); }
  void rename_no_replace(std::string_view from, std::string_view to) override {
    rename_with(from, to, RENAME_NOREPLACE);
  }
  void rename_exchange(std::string_view a, std::string_view b) override { rename_with(a, b, RENAME_EXCHANGE); }

  void remove_file(std::string_view path) override {
    const auto at = changing_parent(path);
    if (::unlinkat(at.handle.get(), at.name.c_str(), 0) != 0) throw_errno(errno, "cannot remove", shown(path));
  }

  void remove_directory(std::string_view path) override {
    const auto at = changing_parent(path);
    if (::unlinkat(at.handle.get(), at.name.c_str(), AT_REMOVEDIR) != 0)
      throw_errno(errno, "cannot remove the directory", shown(path));
  }

  void set_owner(std::string_view path, std::uint32_t uid, std::uint32_t gid) override {
    const auto at = changing_parent(path);
    if (::fchownat(at.handle.get(), at.name.c_str(), uid, gid, AT_SYMLINK_NOFOLLOW) != 0)
      throw_errno(errno, "cannot set the owner", shown(path));
  }

  void set_mode(std::string_view path, std::uint32_t mode) override {
    // fchmodat follows a link in the last part: go through a handle that does not.
    const auto at = changing_parent(path);
    const Handle handle(::openat(at.handle.get(), at.name.c_str(), O_PATH | O_NOFOLLOW | O_CLOEXEC));
    struct ::stat raw {};
    if (handle.get() < 0 || ::fstat(handle.get(), &raw) != 0) throw_errno(errno, "cannot set the mode", shown(path));
    if (S_ISLNK(raw.st_mode)) throw Error(ErrorCode::Internal, "a symbolic link has no mode to set", shown(path));
    if (::chmod(fmt::format("/proc/self/fd/{}", handle.get()).c_str(), mode) != 0)
      throw_errno(errno, "cannot set the mode", shown(path));
  }

  void set_label(std::string_view path, std::string_view value) override {
    const auto at = changing_parent(path);
    const int result = ::lsetxattr(proc_path(at).c_str(), kLabelAttribute, value.data(), value.size(), 0);
    if (result != 0 && errno != ENOTSUP) throw_errno(errno, "cannot set the security label", shown(path));
  }

  void set_attribute(std::string_view path, const std::string& name, std::string_view value) override {
    const auto at = changing_parent(path);
    if (::lsetxattr(proc_path(at).c_str(), name.c_str(), value.data(), value.size(), 0) != 0)
      throw_errno(errno, "cannot set the extended attribute " + name, shown(path));
  }

  void set_mtime(std::string_view path, std::int64_t seconds, std::int64_t nanoseconds) override {
    const auto at = changing_parent(path);
    const timespec times[2] = {{0, UTIME_OMIT}, {seconds, nanoseconds}};
    if (::utimensat(at.handle.get(), at.name.c_str(), times, AT_SYMLINK_NOFOLLOW) != 0)
      throw_errno(errno, "cannot set the time", shown(path));
  }

  void sync_directory(std::string_view path) override {
    const Handle handle = resolve(path, O_RDONLY | O_DIRECTORY);
    if (handle.get() < 0 || ::fsync(handle.get()) != 0) throw_errno(errno, "cannot sync the directory", shown(path));
  }

  void watch_writes(std::string_view directory) override {
    Handle handle = resolve(directory, O_RDONLY | O_DIRECTORY);
    const auto info = handle.get() < 0 ? std::nullopt : look(handle.get(), "");
    if (!info) throw_errno(errno, "cannot reach the directory", shown(directory));
    watched_.insert_or_assign(info->device, std::move(handle));
  }

  void sync_all(std::string_view path) override {
    const int early = creation_->early.settle();
    const Handle handle = resolve(path, O_RDONLY | O_DIRECTORY);
    const auto info = handle.get() < 0 ? std::nullopt : look(handle.get(), "");
    if (!info) throw_errno(errno, "cannot sync the file system", shown(path));
    // The kernel tells a failure to each open file once: to one that was opened after it, never.
    const auto watched = watched_.find(info->device);
    const int file = watched == watched_.end() ? handle.get() : watched->second.get();
    if (::syncfs(file) != 0) throw_errno(errno, "cannot sync the file system", shown(path));
    if (early != 0) throw_errno(early, "written data could not be stored on the disk", shown(path));
  }

 private:
  bool is_overlay(std::string_view path, std::uint64_t mount) {
    const std::lock_guard lock(overlays_guard_);
    const auto known = overlays_.find(mount);
    if (known != overlays_.end()) return known->second;
    const Handle handle = resolve(path, O_PATH);
    struct ::statfs facts {};
    const bool overlay =
        handle.get() >= 0 && ::fstatfs(handle.get(), &facts) == 0 && facts.f_type == OVERLAYFS_SUPER_MAGIC;
    return overlays_[mount] = overlay;
  }

  struct Place {
    Handle handle;  // the parent directory
    std::string name;
  };

  int resolve_raw(std::string_view path, int flags, std::uint64_t how_else = 0) const {
    require_clean(path);
    open_how how{};
    how.flags = static_cast<std::uint64_t>(flags | O_CLOEXEC);
    how.resolve = RESOLVE_IN_ROOT | RESOLVE_NO_MAGICLINKS | how_else;
    const std::string text = path.empty() ? "." : std::string(path);
    for (int tries = 0;; ++tries) {
      const long fd = ::syscall(SYS_openat2, root_.get(), text.c_str(), &how, sizeof how);
      // EAGAIN: something was renamed above us while the kernel walked; it asks to be called again.
      if (fd < 0 && (errno == EINTR || (errno == EAGAIN && tries < 100))) continue;
      return static_cast<int>(fd);
    }
  }
  Handle resolve(std::string_view path, int flags) const { return Handle(resolve_raw(path, flags)); }

  /// A directory for changing: see the head of file_system.h. Without links on the way, which is the rule, in one call.
  /// Without a handle, and errno, where it is not there. A strange link is told in `strange`, or thrown.
  Handle walk(std::string_view path, std::string* strange = nullptr) const {
    Handle quick(resolve_raw(path, O_PATH | O_DIRECTORY, RESOLVE_NO_SYMLINKS));
    if (quick.get() >= 0 || errno != ELOOP) return quick;
    constexpr int kMostLinks = 40;  // as the kernel
    std::vector<Step> way;
    way.push_back(step_into(root_.get(), ".", true));
    std::vector<std::string> left;  // the next part last
    const auto add = [&](std::string_view text) {
      const auto parts = split(text, '/');
      for (auto part = parts.rbegin(); part != parts.rend(); ++part) left.emplace_back(*part);
    };
    add(path);
    for (int links = 0; !left.empty();) {
      const std::string part = std::move(left.back());
      left.pop_back();
      if (part.empty() || part == ".") continue;
      if (part == "..") {
        if (way.size() > 1) way.pop_back();
        continue;
      }
      Step next = step_into(way.back().handle.get(), part, way.back().kept);
      if (next.handle.get() < 0) return Handle();
      if (next.type == FileType::Directory) {
        way.push_back(std::move(next));
        continue;
      }
      errno = ENOTDIR;
      if (next.type != FileType::Symlink) return Handle();
      errno = ELOOP;
      if (++links > kMostLinks) return Handle();
      const std::string target = link_target(next.handle.get());
      if (!way.back().kept || !is_keeper(next.uid)) {
        const std::string where = shown_handle(way.back().handle.get()) + "/" + part;
        if (strange == nullptr) refuse_strange(where, path);
        *strange = where;
        return Handle();
      }
      if (target.starts_with("/")) way.erase(way.begin() + 1, way.end());
      add(target);
    }
    return std::move(way.back().handle);
  }

  /// One part of a way. `kept`: nobody but the root's keepers can change what its names, and those above, lead to.
  struct Step {
    Handle handle = Handle();
    bool kept = false;
    FileType type = FileType::Other;
    std::uint32_t uid = 0;
  };
  Step step_into(int directory, const std::string& part, bool kept) const {
    Step step;
    step.handle = Handle(::openat(directory, part.c_str(), O_PATH | O_NOFOLLOW | O_CLOEXEC));
    const auto info = step.handle.get() < 0 ? std::nullopt : look(step.handle.get(), "");
    if (!info) return Step{};
    step.type = info->type;
    step.uid = info->uid;
    const bool group = (info->mode & 0020U) == 0 || info->gid == 0 || info->gid == ::getegid() || info->gid == group_;
    step.kept = kept && is_keeper(info->uid) && group && (info->mode & 0002U) == 0;
    return step;
  }
  bool is_keeper(std::uint32_t uid) const { return uid == 0 || uid == ::geteuid() || uid == owner_; }
  static std::string link_target(int link) {
    std::string target(4096, '\0');
    const ssize_t size = ::readlinkat(link, "", target.data(), target.size());
    target.resize(size > 0 ? static_cast<std::size_t>(size) : 0);
    return target;
  }
  static std::string shown_handle(int handle) {
    std::string path(4096, '\0');
    const ssize_t size = ::readlink(fmt::format("/proc/self/fd/{}", handle).c_str(), path.data(), path.size());
    path.resize(size > 0 ? static_cast<std::size_t>(size) : 0);
    return path == "/" ? "" : path;
  }
  [[noreturn]] void refuse_strange(const std::string& link, std::string_view path) const {
    throw Error(ErrorCode::Refused,
                fmt::format("this symbolic link is on the way to {}; other users can change it, so it is not followed",
                            shown(path)),
                link, "look at it with ls -l; remove it, or make it as root in a directory that only root writes to");
  }

  std::optional<Place> try_parent(std::string_view path) const {
    Handle handle = resolve(parent_of(path), O_PATH | O_DIRECTORY);
    if (handle.get() < 0) {
      if (errno == ENOENT || errno == ENOTDIR) return std::nullopt;
      throw_errno(errno, "cannot reach the directory of", shown(path));
    }
    require_clean(path);
    return Place{std::move(handle), path.empty() ? "." : std::string(name_of(path))};
  }

  Place parent(std::string_view path) const {
    auto place = try_parent(path);
    if (!place) throw_errno(errno, "cannot reach the directory of", shown(path));
    return std::move(*place);
  }

  /// The same for a change.
  Place changing_parent(std::string_view path) const {
    require_clean(path);
    Handle handle = walk(parent_of(path));
    if (handle.get() < 0) throw_errno(errno, "cannot reach the directory of", shown(path));
    return Place{std::move(handle), path.empty() ? "." : std::string(name_of(path))};
  }

  // xattr calls that do not follow a link in the last part exist only by path; the parent's handle anchors that path.
  static std::string proc_path(const Place& at) { return fmt::format("/proc/self/fd/{}/{}", at.handle.get(), at.name); }

  void rename_with(std::string_view from, std::string_view to, unsigned flags) {
    const auto source = changing_parent(from), target = changing_parent(to);
    if (::renameat2(source.handle.get(), source.name.c_str(), target.handle.get(), target.name.c_str(), flags) != 0)
      throw_errno(errno,
                  fmt::format("cannot {} {}", flags == RENAME_EXCHANGE ? "exchange with" : "rename to", shown(to)),
                  shown(from));
  }

  std::mutex overlays_guard_;
  std::map<std::uint64_t, bool> overlays_;  // by mount
  Handle root_;
  std::string root_path_;
  std::uint32_t group_ = 0;                  // that may write to the root directory itself, 0: none but root's
  std::uint32_t owner_ = 0;                  // of the root directory
  std::map<std::uint64_t, Handle> watched_;  // by device
  std::shared_ptr<CreationLock> creation_ = std::make_shared<CreationLock>();
};

}  // namespace

std::unique_ptr<FileSystem> open_file_system(const std::string& root) {
  return std::make_unique<PosixFileSystem>(root);
}

}  // namespace hambrel::os
