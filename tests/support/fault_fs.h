// A file system whose Nth changing operation fails, once or from then on for good.
//
// "For good" is how a crash looks from inside: nothing that comes after reaches the disk. The sync calls count as
// operations, too. What was written before the fault stays, and where the first fault is a write, half of it: the disk
// ran full in the middle (lost writes are another double's business). Several threads may use it; directories are
// handles of the real file system below. `Late`: what fails is writing back a file that was complete, which nobody
// hears of before the next sync of everything.
#pragma once

#include <atomic>
#include <cerrno>
#include <mutex>

#include "base/error.h"
#include "os/file_system.h"

namespace hambrel::test {

class FaultFs final : public os::FileSystem {
 public:
  enum class Kind { Once, ForGood, Late };
  /// fault_at 0: never.
  FaultFs(os::FileSystem& real, std::uint64_t fault_at, Kind kind, int error_number = EIO)
      : real_(real), fault_at_(fault_at), kind_(kind), error_(error_number) {}

  std::uint64_t operations() const { return count_; }
  /// Called before each of them with its number, from 1.
  std::function<void(std::uint64_t)> before_step{};
  /// The path of every changing operation so far, in order; a test may put marks of its own between them.
  std::vector<std::string> calls;
  bool hit() const { return fault_at_ > 0 && count_ >= fault_at_; }

  std::optional<os::FileInfo> stat(std::string_view path) override { return real_.stat(path); }
  std::optional<os::FileInfo> stat_followed(std::string_view path) override { return real_.stat_followed(path); }
  std::string read_link(std::string_view path) override { return real_.read_link(path); }
  std::vector<std::string> list(std::string_view path) override { return real_.list(path); }
  std::unique_ptr<os::ReadableFile> open(std::string_view path) override { return real_.open(path); }
  std::unique_ptr<os::ReadableFile> open_itself(std::string_view path) override { return real_.open_itself(path); }
  std::optional<std::string> strange_link(std::string_view path) override { return real_.strange_link(path); }
  bool can_rename_directory(std::string_view path, const os::FileInfo& info, std::string_view full) override {
    return real_.can_rename_directory(path, info, full);
  }
  std::shared_ptr<const Bytes> map(std::string_view path) override { return real_.map(path); }
  os::ExtendedAttributes attributes(std::string_view path) override { return real_.attributes(path); }
  os::Space space(std::string_view path) override { return real_.space(path); }
  std::string real_path(std::string_view directory) override { return real_.real_path(directory); }
  std::string shown(std::string_view path) const override { return real_.shown(path); }
  std::vector<std::string> mount_points() override { return real_.mount_points(); }

  std::unique_ptr<os::WritableFile> create(std::string_view path, std::uint32_t mode) override {
    step(path);
    return std::make_unique<File>(*this, real_.create(path, mode), std::string(path));
  }
  std::unique_ptr<os::WritableFile> append(std::string_view path) override {
    step(path);
    return std::make_unique<File>(*this, real_.append(path), std::string(path));
  }
  std::unique_ptr<os::DatabaseFile> open_database(std::string_view path, std::uint32_t mode) override {
    return real_.open_database(path, mode);
  }
  std::unique_ptr<os::Directory> open_directory(std::string_view path) override {
    return std::make_unique<Directory>(*this, real_.open_directory(path), std::string(path));
  }
  void make_directory(std::string_view path, std::uint32_t mode) override {
    step(path);
    real_.make_directory(path, mode);
  }
  void make_symlink(std::string_view target, std::string_view path) override {
    step(path);
    real_.make_symlink(target, path);
  }
  void make_whiteout(std::string_view path) override {
    step(path);
    real_.make_whiteout(path);
  }
  bool is_whiteout(std::string_view path) override { return real_.is_whiteout(path); }
  void remove_attribute(std::string_view path, const std::string& name) override {
    step(path);
    real_.remove_attribute(path, name);
  }
  void make_hard_link(std::string_view existing, std::string_view path) override {
    step(path);
    real_.make_hard_link(existing, path);
  }
  void rename(std::string_view from, std::string_view to) override {
    step(from);
    real_.rename(from, to);
  }
  void rename_no_replace(std::string_view from, std::string_view to) override {
    step(from);
    real_.rename_no_replace(from, to);
  }
  void rename_exchange(std::string_view a, std::string_view b) override {
    step(a);
    real_.rename_exchange(a, b);
  }
  void remove_file(std::string_view path) override {
    step(path);
    real_.remove_file(path);
  }
  void remove_directory(std::string_view path) override {
    step(path);
    real_.remove_directory(path);
  }
  void set_owner(std::string_view path, std::uint32_t uid, std::uint32_t gid) override {
    step(path);
    real_.set_owner(path, uid, gid);
  }
  void set_mode(std::string_view path, std::uint32_t mode) override {
    step(path);
    real_.set_mode(path, mode);
  }
  void set_attribute(std::string_view path, const std::string& name, std::string_view value) override {
    step(path);
    real_.set_attribute(path, name, value);
  }
  void set_mtime(std::string_view path, std::int64_t seconds, std::int64_t nanoseconds) override {
    step(path);
    real_.set_mtime(path, seconds, nanoseconds);
  }
  void sync_directory(std::string_view path) override {
    step(path);
    real_.sync_directory(path);
  }
  void watch_writes(std::string_view path) override { real_.watch_writes(path); }
  void sync_all(std::string_view path) override {
    step(path);
    real_.sync_all(path);
    if (late_.exchange(false)) throw_errno(error_, "injected fault", shown(path));
  }

 private:
  class File final : public os::WritableFile {
   public:
    File(FaultFs& owner, std::unique_ptr<os::WritableFile> real, std::string path)
        : owner_(owner), real_(std::move(real)), path_(std::move(path)) {}
    using os::WritableFile::write;
    void write(std::span<const std::byte> data) override {
      try {
        owner_.step(path_);
      } catch (const Error&) {
        if (owner_.hits_ == 1) real_->write(data.first(data.size() / 2));
        throw;
      }
      real_->write(data);
    }
    void skip(std::uint64_t size) override {
      owner_.step(path_);
      real_->skip(size);
    }
    void sync() override {
      owner_.step(path_);
      real_->sync();
    }
    void close() override { real_->close(); }
    void finish(const os::Metadata& metadata) override {
      if (owner_.kind_ == Kind::Late)
        owner_.late_ = owner_.late_ || owner_.counted(path_);
      else
        owner_.step(path_);
      real_->finish(metadata);
    }

   private:
    FaultFs& owner_;
    std::unique_ptr<os::WritableFile> real_;
    std::string path_;
  };

  class Directory final : public os::Directory {
   public:
    Directory(FaultFs& owner, std::unique_ptr<os::Directory> real, std::string path)
        : owner_(owner), real_(std::move(real)), path_(std::move(path)) {}
    std::optional<os::FileInfo> stat(std::string_view name) override { return real_->stat(name); }
    std::vector<std::string> list() override { return real_->list(); }
    std::vector<Entry> entries() override { return real_->entries(); }
    std::unique_ptr<os::Directory> enter(std::string_view name) override {
      return std::make_unique<Directory>(owner_, real_->enter(name), os::join_path(path_, name));
    }
    std::unique_ptr<os::WritableFile> create(std::string_view name, std::uint32_t mode) override {
      const std::string path = stepped(name);
      return std::make_unique<File>(owner_, real_->create(name, mode), path);
    }
    void make_directory(std::string_view name, std::uint32_t mode) override {
      stepped(name);
      real_->make_directory(name, mode);
    }
    void remove_file(std::string_view name) override {
      stepped(name);
      real_->remove_file(name);
    }
    void remove_directory(std::string_view name) override {
      stepped(name);
      real_->remove_directory(name);
    }
    void set_metadata(std::string_view name, const os::Metadata& metadata) override {
      stepped(name);
      real_->set_metadata(name, metadata);
    }
    void set_attributes(std::string_view name, std::uint64_t inode, std::optional<os::Owner> owner,
                        std::uint32_t mode) override {
      stepped(name);
      real_->set_attributes(name, inode, owner, mode);
    }
    void make_hard_link(std::string_view name, os::Directory& other, std::string_view there) override {
      stepped(name);
      real_->make_hard_link(name, *dynamic_cast<Directory&>(other).real_, there);
    }
    void rename_no_replace(std::string_view name, os::Directory& other, std::string_view there) override {
      stepped(name);
      real_->rename_no_replace(name, *dynamic_cast<Directory&>(other).real_, there);
    }
    void rename_exchange(std::string_view name, os::Directory& other, std::string_view there) override {
      stepped(name);
      real_->rename_exchange(name, *dynamic_cast<Directory&>(other).real_, there);
    }

   private:
    std::string stepped(std::string_view name) {
      std::string path = os::join_path(path_, name);
      owner_.step(path);
      return path;
    }

    FaultFs& owner_;
    std::unique_ptr<os::Directory> real_;
    std::string path_;
  };

  /// Counts an operation. Is it one that fails?
  bool counted(std::string_view path) {
    const std::lock_guard lock(mutex_);
    ++count_;
    if (before_step) before_step(count_);
    calls.emplace_back(path);
    const bool fails = fault_at_ > 0 && (kind_ == Kind::ForGood ? count_ >= fault_at_ : count_ == fault_at_);
    if (fails) ++hits_;
    return fails;
  }
  void step(std::string_view path) {
    if (kind_ == Kind::Late) return;
    if (counted(path)) throw_errno(error_, "injected fault", shown(path));
  }

  os::FileSystem& real_;
  std::uint64_t fault_at_;
  std::atomic<std::uint64_t> count_ = 0, hits_ = 0;
  std::atomic<bool> late_ = false;
  std::mutex mutex_;  // of the calls
  Kind kind_;
  int error_;
};

}  // namespace hambrel::test
