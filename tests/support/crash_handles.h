// Files and directories of a CrashFs that are open. For crash_fs.cpp alone.
#pragma once

#include <algorithm>

#include "base/error.h"
#include "support/crash_fs.h"

namespace hambrel::test {

namespace {

using os::FileType;

constexpr CrashFs::Id kTop = 1;
enum RenameMode { kReplace, kNoReplace, kExchange };

[[noreturn]] inline void fail(int problem, std::string_view path) { throw_errno(problem, "cannot do it", path); }

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

inline std::size_t copy_into(const std::string& data, std::span<std::byte> into) {
  std::copy(data.begin(), data.end(), reinterpret_cast<char*>(into.data()));
  return data.size();
}

class OpenFile final : public os::ReadableFile {
 public:
  OpenFile(const CrashFs& disk, CrashFs::Id id) : disk_(disk), id_(id), size_(disk.size(id)) {}
  std::uint64_t size() const override { return size_; }
  std::optional<os::FileInfo> info() override { return disk_.info_of(id_); }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    return copy_into(disk_.read(id_, offset, into.size()), into);
  }

 private:
  const CrashFs& disk_;
  CrashFs::Id id_;
  std::uint64_t size_;
};

class Database final : public os::DatabaseFile {
 public:
  Database(CrashFs& disk, CrashFs::Id id) : disk_(disk), id_(id) {}
  std::uint64_t size() const override { return disk_.size(id_); }
  std::optional<os::FileInfo> info() override { return disk_.info_of(id_); }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    return copy_into(disk_.read(id_, offset, into.size()), into);
  }
  void write_at(std::uint64_t offset, std::span<const std::byte> data) override {
    disk_.write_at(id_, offset, {reinterpret_cast<const char*>(data.data()), data.size()});
  }
  void truncate(std::uint64_t size) override { disk_.truncate(id_, size); }
  void sync() override { disk_.sync_file(id_); }
  bool try_lock() override { return true; }

 private:
  CrashFs& disk_;
  CrashFs::Id id_;
};

class Directory final : public os::Directory {
 public:
  Directory(CrashFs& disk, CrashFs::Id id) : disk_(disk), id_(id) {}
  std::optional<os::FileInfo> stat(std::string_view name) override { return disk_.stat_in(at(name)); }
  std::vector<std::string> list() override { return disk_.names_in(id_); }
  std::vector<Entry> entries() override {
    std::vector<Entry> entries;
    for (std::string& name : list()) {
      const auto type = stat(name)->type;
      entries.push_back({std::move(name), type});
    }
    return entries;
  }
  std::unique_ptr<os::Directory> enter(std::string_view name) override {
    return std::make_unique<Directory>(disk_, disk_.enter(at(name)));
  }
  std::unique_ptr<os::WritableFile> create(std::string_view name, std::uint32_t mode) override {
    return std::make_unique<File>(disk_, disk_.create_in(at(name), mode));
  }
  void make_directory(std::string_view name, std::uint32_t mode) override { disk_.make_directory_in(at(name), mode); }
  void remove_file(std::string_view name) override { disk_.remove_in(at(name), false); }
  void remove_directory(std::string_view name) override { disk_.remove_in(at(name), true); }
  void set_metadata(std::string_view name, const os::Metadata& metadata) override {
    if (metadata.owner) disk_.set_owner_in(at(name), metadata.owner->first, metadata.owner->second);
    for (const auto& [key, value] : metadata.inherited) disk_.set_attribute_in(at(name), key, value);
    if (metadata.mode) disk_.set_mode_in(at(name), *metadata.mode);
    for (const auto& [key, value] : metadata.attributes) disk_.set_attribute_in(at(name), key, value);
    if (!metadata.label.empty()) disk_.set_attribute_in(at(name), os::kLabelAttribute, metadata.label);
    if (metadata.mtime) disk_.set_mtime_in(at(name), *metadata.mtime, 0);
  }
  void set_attributes(std::string_view name, std::uint64_t inode, std::optional<os::Owner> owner,
                      std::uint32_t mode) override {
    const auto now = stat(name);
    if (!now || now->type != FileType::Directory || now->inode != inode) os::refuse_another(std::string(name));
    if (owner) disk_.set_owner_in(at(name), owner->uid, owner->gid);
    disk_.set_mode_in(at(name), mode);
  }
  void make_hard_link(std::string_view name, os::Directory& other, std::string_view there) override {
    disk_.make_hard_link_in(at(name), dynamic_cast<Directory&>(other).at(there));
  }
  void rename_no_replace(std::string_view name, os::Directory& other, std::string_view there) override {
    disk_.rename_in(at(name), dynamic_cast<Directory&>(other).at(there), kNoReplace);
  }
  void rename_exchange(std::string_view name, os::Directory& other, std::string_view there) override {
    disk_.rename_in(at(name), dynamic_cast<Directory&>(other).at(there), kExchange);
  }

 private:
  CrashFs::At at(std::string_view name) const { return {id_, std::string(name)}; }

  CrashFs& disk_;
  CrashFs::Id id_;
};

}  // namespace

}  // namespace hambrel::test
