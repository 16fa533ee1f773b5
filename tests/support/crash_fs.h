// A file system in memory that can lose its power. Several threads may use it, and directories held open are what they
// are on a real one: they follow the directory, not its path.
//
// What was not synced is in doubt: each write, each change of a name, of a mode or of a time that came since the last
// sync of its file system is on the disk after the crash, or not, or (a write) half. sync_all() settles everything on
// one file system, sync_directory() the names in one directory, a file's sync() its content and attributes. A change of
// names is one step: a rename is done or not done, but of two renames either may be the one that is lost.
//
// Operations are counted. At number `crash_at` the power goes: that operation and all later ones fail, a write in the
// middle. reboot() then settles what was in doubt, by a seed, and counts anew.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "base/digest.h"
#include "os/file_system.h"

namespace hambrel::test {

class CrashFs final : public os::FileSystem {
 public:
  /// Empty; `mounts` are directories that are made, each a file system of its own.
  explicit CrashFs(const std::vector<std::string>& mounts = {});
  /// Another disk that holds what is durable on this one.
  CrashFs(const CrashFs& other);

  /// 0: never.
  void crash_at(std::uint64_t operation) {
    crash_at_ = operation;
    count_ = 0;
  }
  bool crashed() const;
  std::uint64_t operations() const;

  /// How much of what is in doubt is lost.
  enum class Loss { Nothing, Everything, Content, Some };
  void reboot(Loss loss, std::uint64_t seed);
  /// What is durable and what is in doubt, so that one crash can end in many ways.
  class InDoubt;
  InDoubt in_doubt() const;
  void reboot(const InDoubt& from, Loss loss, std::uint64_t seed);
  /// Of all that is durable: disks that have it in common are the same.
  Digest fingerprint() const;

  /// Path -> facts of everything below, as test::tree() tells them (without times); `without`: left out.
  std::map<std::string, std::string> tree(const std::vector<std::string>& without) const;

  std::optional<os::FileInfo> stat(std::string_view path) override;
  std::optional<os::FileInfo> stat_followed(std::string_view path) override;
  std::string read_link(std::string_view path) override;
  std::vector<std::string> list(std::string_view path) override;
  std::unique_ptr<os::ReadableFile> open(std::string_view path) override;
  std::unique_ptr<os::ReadableFile> open_itself(std::string_view path) override;
  std::shared_ptr<const Bytes> map(std::string_view path) override;
  os::ExtendedAttributes attributes(std::string_view path) override;
  os::Space space(std::string_view) override { return {1U << 30U, 1U << 20U, 1U << 20U}; }
  std::string real_path(std::string_view directory) override;
  std::vector<std::string> mount_points() override { return mounts_; }
  std::string shown(std::string_view path) const override { return "/" + std::string(path); }

  std::unique_ptr<os::WritableFile> create(std::string_view path, std::uint32_t mode) override;
  std::unique_ptr<os::WritableFile> append(std::string_view path) override;
  std::unique_ptr<os::DatabaseFile> open_database(std::string_view path, std::uint32_t mode) override;
  std::unique_ptr<os::Directory> open_directory(std::string_view path) override;
  void make_directory(std::string_view path, std::uint32_t mode) override;
  void make_symlink(std::string_view target, std::string_view path) override;
  void make_whiteout(std::string_view path) override;
  bool is_whiteout(std::string_view path) override;
  void make_hard_link(std::string_view existing, std::string_view path) override;
  void rename(std::string_view from, std::string_view to) override;
  void rename_no_replace(std::string_view from, std::string_view to) override;
  void rename_exchange(std::string_view a, std::string_view b) override;
  void remove_file(std::string_view path) override;
  void remove_directory(std::string_view path) override;
  void set_owner(std::string_view path, std::uint32_t uid, std::uint32_t gid) override;
  void set_mode(std::string_view path, std::uint32_t mode) override;
  void set_attribute(std::string_view path, const std::string& name, std::string_view value) override;
  void set_mtime(std::string_view path, std::int64_t seconds, std::int64_t nanoseconds) override;
  void sync_directory(std::string_view path) override;
  void sync_all(std::string_view path) override;

  using Id = std::uint64_t;  // an inode's number
  /// A name in a directory.
  struct At {
    Id directory;
    std::string name;
  };
  // For open files and directories. Each throws Error where the power is gone.
  std::string read(Id file, std::uint64_t offset, std::size_t size) const;
  std::uint64_t size(Id file) const;
  os::FileInfo info_of(Id file) const;
  void write_at(Id file, std::uint64_t offset, std::string_view data);
  void truncate(Id file, std::uint64_t size);
  void sync_file(Id file);
  void set_metadata_of(Id file, const os::Metadata& metadata);
  std::optional<os::FileInfo> stat_in(const At& at) const;
  std::vector<std::string> names_in(Id directory) const;
  Id enter(const At& at) const;
  Id create_in(const At& at, std::uint32_t mode);
  void make_directory_in(const At& at, std::uint32_t mode);
  void rename_in(const At& from, const At& to, int mode);
  void remove_in(const At& at, bool directory);
  void set_owner_in(const At& at, std::uint32_t uid, std::uint32_t gid);
  void set_mode_in(const At& at, std::uint32_t mode);
  void make_hard_link_in(const At& existing, const At& path);
  void set_attribute_in(const At& at, const std::string& name, std::string_view value);
  void set_mtime_in(const At& at, std::int64_t seconds, std::int64_t nanoseconds);

 private:
  struct Node {
    os::FileType type = os::FileType::Regular;
    std::uint32_t mode = 0, uid = 0, gid = 0;
    std::int64_t seconds = 0, nanoseconds = 0;
    unsigned disk = 0;
    std::string content;  // or the target of a link
    os::ExtendedAttributes attributes;
    std::map<std::string, Id, std::less<>> names;
  };
  using Disk = std::map<Id, Node>;
  /// A change in doubt, to be done on the tree that is on the disk. `names`: directories whose names it changes.
  struct Change {
    unsigned disk;
    std::vector<Id> names;
    Id file;  // whose content or attributes it changes, 0: none
    bool content;
    std::function<void(Disk&, bool half)> apply;
  };
  struct Place {
    Id directory;
    std::string name;
    std::optional<Id> node;
  };

  void step();
  void change(Change one);
  std::optional<Id> resolve(std::string_view path, bool follow_last, int depth = 0) const;
  At at(std::string_view path) const;
  Place place(const At& at, bool must_exist) const;
  Id add(const At& at, Node node);
  void settle(const std::function<bool(const Change&)>& which);
  static void put_node(Disk& disk, Id id, const Node& birth);
  std::optional<os::FileInfo> info(std::optional<Id> id) const;

  std::vector<std::string> mounts_;
  Disk live_, durable_, births_;  // births_: as each node was when it was made
  std::vector<Change> pending_;
  Id next_ = 2;
  std::uint64_t count_ = 0, crash_at_ = 0;
  std::int64_t clock_ = 1'800'000'000;
  mutable std::recursive_mutex mutex_;
};

class CrashFs::InDoubt {
  friend CrashFs;
  Disk durable;
  std::vector<Change> pending;
};

}  // namespace hambrel::test
