#include "os/file_system.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "os/host.h"

namespace hambrel::os {

std::string ReadableFile::read_exactly(std::uint64_t offset, std::size_t size, std::string_view where) {
  std::string data(size, '\0');
  const std::size_t got = read_at(offset, std::as_writable_bytes(std::span(data)));
  if (got != size)
    throw Error(ErrorCode::Untrusted, fmt::format("cut off: {} bytes wanted at offset {}, {} there", size, offset, got),
                std::string(where), "fetch or copy the file again");
  return data;
}

std::size_t MemoryFile::read_at(std::uint64_t offset, std::span<std::byte> into) {
  if (offset >= content_.size()) return 0;
  const std::size_t size = std::min<std::uint64_t>(into.size(), content_.size() - offset);
  std::memcpy(into.data(), content_.data() + offset, size);
  return size;
}

namespace {

std::string whole(ReadableFile& file, std::uint64_t limit, const std::string& where) {
  if (file.size() > limit)
    throw Error(ErrorCode::Invalid, fmt::format("{} bytes long, at most {} are read", file.size(), limit), where);
  return file.read_exactly(0, file.size(), where);
}

}  // namespace

std::string FileReader::read_all(std::string_view path, std::uint64_t limit) {
  return whole(*open(path), limit, shown(path));
}

std::string FileReader::read_itself(std::string_view path, std::uint64_t limit) {
  return whole(*open_itself(path), limit, shown(path));
}

namespace {

FileInfo present(const std::optional<FileInfo>& found, const std::string& where) {
  if (found) return *found;
  throw Error(ErrorCode::Refused, "has disappeared while it was being looked at", where, "run the command again");
}

}  // namespace

FileInfo FileReader::stat_present(std::string_view path) { return present(stat(path), shown(path)); }
FileInfo FileReader::stat_followed_present(std::string_view path) { return present(stat_followed(path), shown(path)); }

std::string FileReader::physical(std::string_view directory) {
  const std::string top = real_path(""), whole = real_path(directory);
  if (whole == top) return {};
  const std::size_t skip = top == "/" ? 1 : top.size() + 1;
  if (!whole.starts_with(top) || whole.size() <= skip)
    throw Error(ErrorCode::Internal, "a directory lies outside of its root", shown(directory));
  return whole.substr(skip);
}

Digest digest_of(ReadableFile& file, const std::string& where) {
  constexpr std::uint64_t kPiece = 1 << 20;
  Sha256 running;
  for (std::uint64_t at = 0; at < file.size(); at += kPiece)
    running.update(file.read_exactly(at, std::min(kPiece, file.size() - at), where));
  return running.finish();
}

Digest FileReader::digest(std::string_view path) { return digest_of(*open_itself(path), shown(path)); }

namespace {

class OpenedEachTime final : public ReadableFile {
 public:
  OpenedEachTime(std::shared_ptr<FileReader> files, std::string path)
      : files_(std::move(files)), path_(std::move(path)), size_(files_->open(path_)->size()) {}
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    return files_->open(path_)->read_at(offset, into);
  }
  void expect(std::uint64_t offset, std::uint64_t size) override { files_->open(path_)->expect(offset, size); }

 private:
  std::shared_ptr<FileReader> files_;
  std::string path_;
  std::uint64_t size_;
};

}  // namespace

std::unique_ptr<ReadableFile> open_each_time(std::shared_ptr<FileReader> files, std::string path) {
  return std::make_unique<OpenedEachTime>(std::move(files), std::move(path));
}

std::unique_ptr<ReadableFile> open_each_time(FileReader& files, std::string path) {
  return open_each_time(std::shared_ptr<FileReader>(std::shared_ptr<void>(), &files), std::move(path));
}

void refuse_another(const std::string& where) {
  throw Error(ErrorCode::Refused, "this changed since the plan was made", where,
              "look at it with ls -ld, then run the command again");
}

namespace {

std::vector<DirectoryReader::Entry> entries_by_path(FileReader& files, const std::string& path) {
  std::vector<DirectoryReader::Entry> entries;
  for (std::string& name : files.list(path))
    if (const auto info = files.stat(join_path(path, name))) entries.push_back({std::move(name), info->type});
  return entries;
}

class ReaderByPath final : public DirectoryReader {
 public:
  ReaderByPath(FileReader& files, std::string_view path) : files_(files), path_(path) {}
  std::optional<FileInfo> stat(std::string_view name) override { return files_.stat(join_path(path_, name)); }
  std::vector<Entry> entries() override { return entries_by_path(files_, path_); }

 private:
  FileReader& files_;
  std::string path_;
};

class DirectoryByPath final : public Directory {
 public:
  DirectoryByPath(FileSystem& files, std::string_view path) : files_(files), path_(path) {}
  std::optional<FileInfo> stat(std::string_view name) override { return files_.stat(join_path(path_, name)); }
  std::unique_ptr<WritableFile> create(std::string_view name, std::uint32_t mode) override {
    return files_.create(join_path(path_, name), mode);
  }
  void make_directory(std::string_view name, std::uint32_t mode) override {
    files_.make_directory(join_path(path_, name), mode);
  }
  std::vector<std::string> list() override { return files_.list(path_); }
  std::vector<Entry> entries() override { return entries_by_path(files_, path_); }
  void remove_file(std::string_view name) override { files_.remove_file(join_path(path_, name)); }
  void remove_directory(std::string_view name) override { files_.remove_directory(join_path(path_, name)); }
  std::unique_ptr<Directory> enter(std::string_view name) override {
    return std::make_unique<DirectoryByPath>(files_, join_path(path_, name));
  }
  void set_attributes(std::string_view name, std::uint64_t inode, std::optional<Owner> owner,
                      std::uint32_t mode) override {
    const std::string path = join_path(path_, name);
    const auto now = files_.stat(path);
    if (!now || now->type != FileType::Directory || now->inode != inode) refuse_another(files_.shown(path));
    if (owner) files_.set_owner(path, owner->uid, owner->gid);
    files_.set_mode(path, mode);
  }
  void set_metadata(std::string_view name, const Metadata& metadata) override {
    files_.set_metadata(join_path(path_, name), metadata);
  }
  void make_hard_link(std::string_view name, Directory& other, std::string_view there) override {
    files_.make_hard_link(join_path(path_, name), join_path(dynamic_cast<DirectoryByPath&>(other).path_, there));
  }
  void rename_no_replace(std::string_view name, Directory& other, std::string_view there) override {
    files_.rename_no_replace(join_path(path_, name), join_path(dynamic_cast<DirectoryByPath&>(other).path_, there));
  }
  void rename_exchange(std::string_view name, Directory& other, std::string_view there) override {
    files_.rename_exchange(join_path(path_, name), join_path(dynamic_cast<DirectoryByPath&>(other).path_, there));
  }

 private:
  FileSystem& files_;
  std::string path_;
};

}  // namespace

std::unique_ptr<DirectoryReader> FileReader::look_into(std::string_view path) {
  const auto info = stat_followed(path);
  if (!info || info->type != FileType::Directory) return nullptr;
  return std::make_unique<ReaderByPath>(*this, path);
}

std::unique_ptr<Directory> FileSystem::open_directory(std::string_view path) {
  return std::make_unique<DirectoryByPath>(*this, path);
}

void FileSystem::set_metadata(std::string_view path, const Metadata& metadata) {
  if (metadata.owner) set_owner(path, metadata.owner->first, metadata.owner->second);
  for (const auto& [name, value] : metadata.inherited) set_attribute(path, name, value);
  if (metadata.mode) set_mode(path, *metadata.mode);
  for (const auto& [name, value] : metadata.attributes) set_attribute(path, name, value);
  if (!metadata.label.empty()) set_label(path, metadata.label);
  if (metadata.mtime) set_mtime(path, *metadata.mtime, 0);
}

void FileSystem::make_directories(std::string_view path) {
  if (path.empty() || stat_followed(path)) return;
  make_directories(parent_of(path));
  make_if_missing(path, 0755);
}

void FileSystem::make_if_missing(std::string_view path, std::uint32_t mode) {
  try {
    make_directory(path, mode);
  } catch (const Error&) {
    const auto there = stat_followed(path);  // somebody else may have made it at the same moment
    if (!there || there->type != FileType::Directory) throw;
  }
}

namespace {

/// A directory on the way down, held open, and the names in it that are still to go.
struct Level {
  std::unique_ptr<Directory> directory;
  std::string name;
  std::vector<std::string> left;
};

Level enter(Directory& above, std::string_view name) {
  Level level{above.enter(name), std::string(name), {}};
  level.left = level.directory->list();
  return level;
}

/// A name that is free in the directory.
std::string free_name(Directory& directory) {
  for (std::size_t i = 0;; ++i)
    if (std::string name = fmt::format("lifted-{}", i); !directory.stat(name)) return name;
}

}  // namespace

void FileSystem::remove_tree(std::string_view path) {
  // The depth of a tree is somebody else's choice: what lies too deep is lifted to the top, and goes from there.
  constexpr std::size_t kMostHeld = 64;
  HAMBREL_ASSERT(!path.empty(), "the root itself stays");
  const auto top = stat(path);
  if (!top) return;
  const auto above = open_directory(parent_of(path));
  if (top->type != FileType::Directory) return above->remove_file(name_of(path));
  std::vector<Level> way;
  way.push_back(enter(*above, name_of(path)));
  while (!way.empty()) {
    Level& here = way.back();
    if (here.left.empty()) {
      const std::string name = here.name;
      way.pop_back();
      (way.empty() ? *above : *way.back().directory).remove_directory(name);
      continue;
    }
    const std::string child = std::move(here.left.back());
    here.left.pop_back();
    const auto info = here.directory->stat(child);
    if (!info) continue;
    if (info->type != FileType::Directory) {
      here.directory->remove_file(child);
    } else if (way.size() >= kMostHeld) {
      const std::string lifted = free_name(*way.front().directory);
      here.directory->rename_no_replace(child, *way.front().directory, lifted);
      way.front().left.push_back(lifted);
    } else {
      way.push_back(enter(*here.directory, child));
    }
  }
}

namespace {

/// Writes a file beside another and renames it over that one. The name is this process's own: two that do the same at
/// once replace each other's whole file, never half of it. `keeps`: what stands there hands on its mode and owner.
void replace(FileSystem& root, std::string_view path, std::span<const std::span<const std::byte>> pieces,
             std::uint32_t mode, bool durable, bool keeps) {
  const std::string beside = fmt::format("{}.{}.new", path, process_id());
  const auto before = keeps ? root.stat(path) : std::nullopt;
  if (root.stat(beside)) root.remove_file(beside);
  const auto file = root.create(beside, before ? before->mode & mode : mode);
  for (const std::span<const std::byte> piece : pieces) file->write(piece);
  if (durable) file->sync();
  file->close();
  if (before && before->type == FileType::Regular) {
    const auto made = root.stat(beside);
    if (made && (made->uid != before->uid || made->gid != before->gid))
      root.set_owner(beside, before->uid, before->gid);
    root.set_mode(beside, before->mode);
  }
  root.rename(beside, path);
  if (durable) root.sync_directory(parent_of(path));
}

void replace(FileSystem& root, std::string_view path, std::string_view content, std::uint32_t mode, bool durable,
             bool keeps) {
  const std::span<const std::byte> all = std::as_bytes(std::span(content));
  replace(root, path, std::span(&all, 1), mode, durable, keeps);
}

}  // namespace

void FileSystem::replace_file(std::string_view path, std::string_view content, std::uint32_t mode) {
  replace(*this, path, content, mode, true, false);
}

void FileSystem::edit_file(std::string_view path, std::string_view content, std::uint32_t mode) {
  replace(*this, path, content, mode, true, true);
}

void FileSystem::replace_cache(std::string_view path, std::string_view content, std::uint32_t mode) {
  replace(*this, path, content, mode, false, false);
}

void FileSystem::replace_cache(std::string_view path, std::span<const std::span<const std::byte>> pieces,
                               std::uint32_t mode) {
  replace(*this, path, pieces, mode, false, false);
}

bool is_clean(std::string_view path) {
  if (path.empty()) return true;
  for (std::size_t at = 0; at <= path.size();) {
    const std::string_view part = path.substr(at, path.find('/', at) - at);
    at += part.size() + 1;
    if (part.empty() || part == "." || part == ".." || part.find('\0') != std::string_view::npos) return false;
  }
  return true;
}

void require_clean(std::string_view path) {
  if (!is_clean(path)) throw Error(ErrorCode::Internal, "an unclean path reached the file system", printable(path));
}

std::string_view parent_of(std::string_view path) {
  const auto slash = path.rfind('/');
  return slash == std::string_view::npos ? std::string_view() : path.substr(0, slash);
}

std::string_view name_of(std::string_view path) {
  const auto slash = path.rfind('/');
  return slash == std::string_view::npos ? path : path.substr(slash + 1);
}

bool is_below(std::string_view path, std::string_view directory) {
  return path.size() > directory.size() && path.starts_with(directory) && path[directory.size()] == '/';
}

std::string join_path(std::string_view parent, std::string_view name) {
  return parent.empty() ? std::string(name) : fmt::format("{}/{}", parent, name);
}

Digest copy_content(ReadableFile& from, WritableFile& to, const std::string& where) {
  constexpr std::uint64_t kPiece = 1 << 20;
  Sha256 running;
  for (std::uint64_t done = 0; done < from.size(); done += kPiece) {
    const std::string piece = from.read_exactly(done, std::min(kPiece, from.size() - done), where);
    running.update(piece);
    to.write(piece);
  }
  return running.finish();
}

}  // namespace hambrel::os
