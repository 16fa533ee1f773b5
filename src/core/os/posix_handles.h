// What PosixFileSystem hands out: open files and directories, and the system calls that they are made of.
//
// Only for posix_file_system.cpp. A name that reaches a directory is checked to be a plain one, so that nothing here
// can lead out of the directory that was opened.
#pragma once

#include <dirent.h>
#include <fcntl.h>
#include <sys/file.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>
#include <utility>

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "os/early_writer.h"
#include "os/file_system.h"
#include "os/handle.h"

namespace hambrel::os {

/// What statx tells of `name` in a directory, or with an empty name of the handle itself; nothing if that fails.
inline std::optional<FileInfo> look(int directory, const char* name) {
  struct ::statx raw {};
  if (::statx(directory, name, AT_SYMLINK_NOFOLLOW | AT_EMPTY_PATH | AT_NO_AUTOMOUNT, STATX_BASIC_STATS | STATX_MNT_ID,
              &raw) != 0)
    return std::nullopt;
  FileInfo info;
  info.type = FileType::Other;
  if (S_ISREG(raw.stx_mode)) info.type = FileType::Regular;
  if (S_ISDIR(raw.stx_mode)) info.type = FileType::Directory;
  if (S_ISLNK(raw.stx_mode)) info.type = FileType::Symlink;
  info.mode = raw.stx_mode & 07777U;
  info.uid = raw.stx_uid;
  info.gid = raw.stx_gid;
  info.size = raw.stx_size;
  info.mtime_seconds = raw.stx_mtime.tv_sec;
  info.mtime_nanoseconds = raw.stx_mtime.tv_nsec;
  info.changed_seconds = raw.stx_ctime.tv_sec;
  info.changed_nanoseconds = raw.stx_ctime.tv_nsec;
  info.inode = raw.stx_ino;
  info.device = ::makedev(raw.stx_dev_major, raw.stx_dev_minor);
  info.links = raw.stx_nlink;
  info.mount = (raw.stx_mask & STATX_MNT_ID) != 0 ? raw.stx_mnt_id : info.device;
  info.fixed = (raw.stx_attributes & (STATX_ATTR_IMMUTABLE | STATX_ATTR_APPEND)) != 0;
  return info;
}

/// What all that makes files in one FileSystem shares.
struct CreationLock {
  /// Held while a file or directory is made. Two threads that make files whose descriptions lie in one block would have
  /// ext4 read that block from the disk, and wait there behind all that is being written.
  std::mutex one_at_a_time;
  EarlyWriter early;
};

/// A new file in a directory that is held open; -1 and errno as openat.
inline Handle create_in(CreationLock& making, int directory, const std::string& name, std::uint32_t mode) {
  const std::lock_guard lock(making.one_at_a_time);
  return Handle(::openat(directory, name.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, mode));
}
/// As mkdirat.
inline int make_directory_in(CreationLock& making, int directory, const std::string& name, std::uint32_t mode) {
  const std::lock_guard lock(making.one_at_a_time);
  return ::mkdirat(directory, name.c_str(), mode);
}

inline bool owner_differs(const Metadata& metadata, const FileInfo& now) {
  return metadata.owner && *metadata.owner != std::pair(now.uid, now.gid);
}
/// An owner that changes takes set-id bits and an access list the group's bits with it, so that the mode is set again.
inline bool mode_differs(const Metadata& metadata, const FileInfo& now) {
  return metadata.mode && (*metadata.mode != now.mode || owner_differs(metadata, now) || !metadata.inherited.empty());
}

/// Of a file by its link in /proc.
inline void set_label_of(const std::string& proc, const std::string& label, const std::string& where) {
  const int result = ::setxattr(proc.c_str(), kLabelAttribute, label.data(), label.size(), 0);
  if (result != 0 && errno != ENOTSUP) throw_errno(errno, "cannot set the security label", where);
}

/// Fewer bytes only at the end of the file.
inline std::size_t read_from(int file, std::uint64_t offset, std::span<std::byte> into, const std::string& where) {
  std::size_t done = 0;
  while (done < into.size()) {
    const ssize_t got = ::pread(file, into.data() + done, into.size() - done, static_cast<off_t>(offset + done));
    if (got < 0 && errno == EINTR) continue;
    if (got < 0) throw_errno(errno, "cannot read", where);
    if (got == 0) break;
    done += static_cast<std::size_t>(got);
  }
  return done;
}

class PosixReadable final : public ReadableFile {
 public:
  PosixReadable(Handle handle, std::uint64_t size, std::string where)
      : handle_(std::move(handle)), size_(size), where_(std::move(where)) {}
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    return read_from(handle_.get(), offset, into, where_);
  }
  std::optional<FileInfo> info() override { return look(handle_.get(), ""); }
  void expect(std::uint64_t offset, std::uint64_t size) override {
    ::posix_fadvise(handle_.get(), static_cast<off_t>(offset), static_cast<off_t>(size), POSIX_FADV_WILLNEED);
  }

 private:
  Handle handle_;
  std::uint64_t size_;
  std::string where_;
};

class PosixDatabaseFile final : public DatabaseFile {
 public:
  PosixDatabaseFile(Handle handle, std::string where) : handle_(std::move(handle)), where_(std::move(where)) {}
  std::uint64_t size() const override {
    const auto now = look(handle_.get(), "");
    if (!now) throw_errno(errno, "cannot read the attributes of", where_);
    return now->size;
  }
  std::optional<FileInfo> info() override { return look(handle_.get(), ""); }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    return read_from(handle_.get(), offset, into, where_);
  }
  void write_at(std::uint64_t offset, std::span<const std::byte> data) override {
    while (!data.empty()) {
      const ssize_t put = ::pwrite(handle_.get(), data.data(), data.size(), static_cast<off_t>(offset));
      if (put < 0 && errno == EINTR) continue;
      if (put < 0) throw_errno(errno, "cannot write", where_);
      data = data.subspan(static_cast<std::size_t>(put));
      offset += static_cast<std::uint64_t>(put);
    }
  }
  void truncate(std::uint64_t size) override {
    if (::ftruncate(handle_.get(), static_cast<off_t>(size)) != 0) throw_errno(errno, "cannot write", where_);
  }
  void sync() override {
    if (::fdatasync(handle_.get()) != 0) throw_errno(errno, "cannot sync", where_);
  }
  bool try_record_lock() override {
    struct ::flock whole {};
    whole.l_type = F_WRLCK;
    while (::fcntl(handle_.get(), F_OFD_SETLK, &whole) != 0) {
      if (errno == EAGAIN || errno == EACCES) return false;
      if (errno != EINTR) throw_errno(errno, "cannot take the lock", where_);
    }
    return true;
  }
  bool try_lock() override {
    while (::flock(handle_.get(), LOCK_EX | LOCK_NB) != 0) {
      if (errno == EWOULDBLOCK) return false;
      if (errno != EINTR) throw_errno(errno, "cannot take the lock", where_);
    }
    return true;
  }

 private:
  Handle handle_;
  std::string where_;
};

class PosixWritable final : public WritableFile {
 public:
  PosixWritable(Handle handle, std::string where, std::shared_ptr<CreationLock> making)
      : handle_(std::move(handle)), where_(std::move(where)), creation_(std::move(making)) {}
  void write(std::span<const std::byte> data) override {
    while (!data.empty()) {
      const ssize_t put = ::write(handle_.get(), data.data(), data.size());
      if (put < 0 && errno == EINTR) continue;
      if (put < 0) throw_errno(errno, "cannot write", where_);
      data = data.subspan(static_cast<std::size_t>(put));
    }
  }
  void skip(std::uint64_t size) override {
    const off_t end = ::lseek(handle_.get(), static_cast<off_t>(size), SEEK_CUR);
    if (end < 0 || ::ftruncate(handle_.get(), end) != 0) throw_errno(errno, "cannot write", where_);
  }
  void finish(const Metadata& metadata) override {
    const int fd = handle_.get();
    const auto now = look(fd, "");
    if (!now) throw_errno(errno, "cannot read the attributes of", where_);
    if (owner_differs(metadata, *now) && ::fchown(fd, metadata.owner->first, metadata.owner->second) != 0)
      throw_errno(errno, "cannot set the owner", where_);
    set_attributes(metadata.inherited);
    if (mode_differs(metadata, *now) && ::fchmod(fd, *metadata.mode) != 0)
      throw_errno(errno, "cannot set the mode", where_);
    set_attributes(metadata.attributes);
    if (!metadata.label.empty()) set_label_of(fmt::format("/proc/self/fd/{}", fd), metadata.label, where_);
    if (metadata.mtime) {
      const timespec times[2] = {{0, UTIME_OMIT}, {*metadata.mtime, 0}};
      if (::futimens(fd, times) != 0) throw_errno(errno, "cannot set the time", where_);
    }
    creation_->early.take(std::move(handle_), now->size);
  }
  void sync() override {
    if (::fsync(handle_.get()) != 0) throw_errno(errno, "cannot sync", where_);
  }
  void close() override {
    if (const int problem = handle_.close(); problem != 0) throw_errno(problem, "cannot write", where_);
  }

 private:
  void set_attributes(const ExtendedAttributes& attributes) {
    for (const auto& [name, value] : attributes)
      if (::fsetxattr(handle_.get(), name.c_str(), value.data(), value.size(), 0) != 0)
        throw_errno(errno, "cannot set the extended attribute " + name, where_);
  }

  Handle handle_;
  std::string where_;
  std::shared_ptr<CreationLock> creation_;
};

/// Names in an open directory, which is closed afterwards.
inline std::vector<std::string> names_in(int fd, const std::string& where) {
  const std::unique_ptr<DIR, int (*)(DIR*)> directory(::fdopendir(fd), ::closedir);
  if (directory == nullptr) throw_errno(errno, "cannot list the directory", where);
  std::vector<std::string> names;
  errno = 0;
  while (const dirent* entry = ::readdir(directory.get())) {
    const std::string_view name = entry->d_name;
    if (name != "." && name != "..") names.emplace_back(name);
  }
  if (errno != 0) throw_errno(errno, "cannot list the directory", where);
  std::sort(names.begin(), names.end());
  return names;
}

/// A name in a directory that leads nowhere else.
inline std::string clean_name(std::string_view name, const std::string& where) {
  if (name.empty() || name == "." || name == ".." || name.find('/') != std::string_view::npos)
    throw Error(ErrorCode::Internal, "an unclean name reached the file system", where + "/" + printable(name));
  return std::string(name);
}

/// What to open a directory with to look into it: it can be listed then as well, where that is allowed.
inline constexpr int kToLook = O_RDONLY | O_DIRECTORY | O_CLOEXEC;

class PosixDirectoryReader final : public DirectoryReader {
 public:
  /// `lists`: the handle is open for reading, at the start of the directory.
  PosixDirectoryReader(Handle handle, std::string where, bool lists)
      : handle_(std::move(handle)), where_(std::move(where)), lists_(lists) {}
  std::optional<FileInfo> stat(std::string_view name) override { return stat_in(handle_.get(), name, where_); }
  std::unique_ptr<DirectoryReader> look_into(std::string_view name) override {
    const std::string text = clean_name(name, where_);
    Handle below(::openat(handle_.get(), text.c_str(), kToLook | O_NOFOLLOW));
    const bool lists = below.get() >= 0;
    if (!lists && errno == EACCES) below = Handle(::openat(handle_.get(), text.c_str(), O_PATH | kToLook | O_NOFOLLOW));
    if (below.get() < 0) return nullptr;
    return std::make_unique<PosixDirectoryReader>(std::move(below), where_ + "/" + text, lists);
  }

  std::vector<Entry> entries() override {
    return std::exchange(lists_, false) ? read_entries(handle_.get(), where_) : entries_in(handle_.get(), where_);
  }

  static std::vector<Entry> entries_in(int directory, const std::string& where) {
    const Handle opened(::openat(directory, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (opened.get() < 0) throw_errno(errno, "cannot list the directory", where);
    return read_entries(opened.get(), where);
  }

  /// From the start of a directory that is open for reading. Most file systems tell the type of each name with it, so
  /// that none of them has to be looked at.
  static std::vector<Entry> read_entries(int directory, const std::string& where) {
    std::vector<Entry> entries;
    alignas(::dirent64) std::array<std::byte, 32 << 10> buffer;  // filled by the kernel
    for (;;) {
      const ssize_t got = ::getdents64(directory, buffer.data(), buffer.size());
      const bool is_removed = got < 0 && errno == ENOENT;  // meanwhile: POSIX has readdir() end then
      if (got == 0 || is_removed) return entries;
      if (got < 0) throw_errno(errno, "cannot list the directory", where);
      for (ssize_t at = 0; at < got;) {
        const auto* const entry = reinterpret_cast<const ::dirent64*>(buffer.data() + at);
        at += entry->d_reclen;
        const std::string_view name = entry->d_name;
        if (name != "." && name != "..") entries.push_back({std::string(name), type_of(*entry, directory, where)});
      }
    }
  }

  static std::optional<FileInfo> stat_in(int directory, std::string_view name, const std::string& where) {
    const std::string text = name.empty() ? "" : clean_name(name, where);  // empty: the directory itself
    const auto info = look(directory, text.c_str());
    if (!info && errno != ENOENT && errno != ENOTDIR)
      throw_errno(errno, "cannot read the attributes of", where + "/" + text);
    return info;
  }

 private:
  static FileType type_of(const ::dirent64& entry, int directory, const std::string& where) {
    if (entry.d_type == DT_REG) return FileType::Regular;
    if (entry.d_type == DT_DIR) return FileType::Directory;
    if (entry.d_type == DT_LNK) return FileType::Symlink;
    if (entry.d_type != DT_UNKNOWN) return FileType::Other;
    const auto info = stat_in(directory, entry.d_name, where);
    return info ? info->type : FileType::Other;
  }

  Handle handle_;
  std::string where_;
  bool lists_;  // the handle stands at the start and can be read
};

class PosixDirectory final : public Directory {
 public:
  PosixDirectory(Handle handle, std::string where, std::shared_ptr<CreationLock> making)
      : handle_(std::move(handle)), where_(std::move(where)), creation_(std::move(making)) {}
  std::optional<FileInfo> stat(std::string_view name) override {
    return PosixDirectoryReader::stat_in(handle_.get(), name, where_);
  }
  std::unique_ptr<WritableFile> create(std::string_view name, std::uint32_t mode) override {
    const std::string text = clean(name);
    Handle file = create_in(*creation_, handle_.get(), text, mode);
    if (file.get() < 0) throw_errno(errno, "cannot create", where_ + "/" + text);
    return std::make_unique<PosixWritable>(std::move(file), where_ + "/" + text, creation_);
  }
  std::vector<std::string> list() override {
    const int fd = ::openat(handle_.get(), ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0) throw_errno(errno, "cannot list the directory", where_);
    return names_in(fd, where_);
  }
  std::vector<Entry> entries() override { return PosixDirectoryReader::entries_in(handle_.get(), where_); }
  void remove_file(std::string_view name) override { remove(name, 0, "cannot remove"); }
  void remove_directory(std::string_view name) override { remove(name, AT_REMOVEDIR, "cannot remove the directory"); }
  std::unique_ptr<Directory> enter(std::string_view name) override {
    const std::string text = clean(name);
    Handle below(::openat(handle_.get(), text.c_str(), O_PATH | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
    if (below.get() < 0) throw_errno(errno, "cannot reach the directory", where_ + "/" + text);
    return std::make_unique<PosixDirectory>(std::move(below), where_ + "/" + text, creation_);
  }
  void set_attributes(std::string_view name, std::uint64_t inode, std::optional<Owner> owner,
                      std::uint32_t mode) override {
    const std::string text = clean(name), where = where_ + "/" + text;
    const Handle one(::openat(handle_.get(), text.c_str(), O_PATH | O_NOFOLLOW | O_CLOEXEC));
    const auto now = one.get() < 0 ? std::nullopt : look(one.get(), "");
    if (!now) throw_errno(errno, "cannot read the attributes of", where);
    if (now->type != FileType::Directory || now->inode != inode) refuse_another(where);
    if (owner && ::fchownat(one.get(), "", owner->uid, owner->gid, AT_EMPTY_PATH) != 0)
      throw_errno(errno, "cannot set the owner", where);
    if (::chmod(fmt::format("/proc/self/fd/{}", one.get()).c_str(), mode) != 0)
      throw_errno(errno, "cannot set the mode", where);
  }
  void make_directory(std::string_view name, std::uint32_t mode) override {
    const std::string text = clean(name);
    if (make_directory_in(*creation_, handle_.get(), text, mode) != 0)
      throw_errno(errno, "cannot make the directory", where_ + "/" + text);
  }
  void set_metadata(std::string_view name, const Metadata& metadata) override {
    const std::string text = clean(name), where = where_ + "/" + text;
    auto now = look(handle_.get(), text.c_str());
    Handle one;
    std::string proc;
    const bool only_time = now && !owner_differs(metadata, *now) && !mode_differs(metadata, *now) &&
                           metadata.inherited.empty() && metadata.attributes.empty() && metadata.label.empty();
    if (!only_time) {
      one = Handle(::openat(handle_.get(), text.c_str(), O_PATH | O_NOFOLLOW | O_CLOEXEC));
      now = one.get() < 0 ? std::nullopt : look(one.get(), "");
      if (!now) throw_errno(errno, "cannot read the attributes of", where);
      proc = fmt::format("/proc/self/fd/{}", one.get());
    }
    const auto set_attributes = [&](const ExtendedAttributes& attributes) {
      for (const auto& [key, value] : attributes)
        if (::setxattr(proc.c_str(), key.c_str(), value.data(), value.size(), 0) != 0)
          throw_errno(errno, "cannot set the extended attribute " + key, where);
    };
    if (owner_differs(metadata, *now) &&
        ::fchownat(one.get(), "", metadata.owner->first, metadata.owner->second, AT_EMPTY_PATH) != 0)
      throw_errno(errno, "cannot set the owner", where);
    set_attributes(metadata.inherited);
    if (mode_differs(metadata, *now) && ::chmod(proc.c_str(), *metadata.mode) != 0)
      throw_errno(errno, "cannot set the mode", where);
    set_attributes(metadata.attributes);
    if (!metadata.label.empty()) set_label_of(proc, metadata.label, where);
    if (metadata.mtime) {
      const timespec times[2] = {{0, UTIME_OMIT}, {*metadata.mtime, 0}};
      if (::utimensat(handle_.get(), text.c_str(), times, AT_SYMLINK_NOFOLLOW) != 0)
        throw_errno(errno, "cannot set the time", where);
    }
  }

  void make_hard_link(std::string_view name, Directory& other, std::string_view there) override {
    const auto& to = dynamic_cast<PosixDirectory&>(other);
    const std::string from = clean(name), link = to.clean(there);
    if (::linkat(handle_.get(), from.c_str(), to.handle_.get(), link.c_str(), 0) != 0)
      throw_errno(errno, "cannot make the hard link to " + where_ + "/" + from, to.where_ + "/" + link);
  }
  void rename_no_replace(std::string_view name, Directory& other, std::string_view there) override {
    rename_with(name, dynamic_cast<PosixDirectory&>(other), there, RENAME_NOREPLACE);
  }
  void rename_exchange(std::string_view name, Directory& other, std::string_view there) override {
    rename_with(name, dynamic_cast<PosixDirectory&>(other), there, RENAME_EXCHANGE);
  }

 private:
  std::string clean(std::string_view name) const { return clean_name(name, where_); }
  void remove(std::string_view name, int flags, const char* what) {
    const std::string text = clean(name);
    if (::unlinkat(handle_.get(), text.c_str(), flags) != 0) throw_errno(errno, what, where_ + "/" + text);
  }
  void rename_with(std::string_view name, const PosixDirectory& other, std::string_view there, unsigned flags) {
    const std::string from = clean(name), to = other.clean(there);
    if (::renameat2(handle_.get(), from.c_str(), other.handle_.get(), to.c_str(), flags) != 0)
      throw_errno(
          errno,
          fmt::format("cannot {} {}/{}", flags == RENAME_EXCHANGE ? "exchange with" : "rename to", other.where_, to),
          where_ + "/" + from);
  }

  Handle handle_;
  std::string where_;
  std::shared_ptr<CreationLock> creation_;
};

class Mapping final : public Bytes {
 public:
  Mapping(const Handle& handle, std::size_t size, const std::string& where) : size_(size) {
    if (size == 0) return;
    start_ = ::mmap(nullptr, size, PROT_READ, MAP_SHARED, handle.get(), 0);
    if (start_ == MAP_FAILED) throw_errno(errno, "cannot map", where);
  }
  ~Mapping() override {
    if (size_ != 0) ::munmap(start_, size_);
  }
  Mapping(const Mapping&) = delete;
  Mapping& operator=(const Mapping&) = delete;
  std::span<const std::byte> data() const override { return {static_cast<const std::byte*>(start_), size_}; }

 private:
  void* start_ = nullptr;
  std::size_t size_;
};

}  // namespace hambrel::os
