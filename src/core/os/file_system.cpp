#include "os/file_system.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/error.h"
#include "base/text.h"

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

std::string FileReader::read_all(std::string_view path, std::uint64_t limit) {
  const auto file = open(path);
  if (file->size() > limit)
    throw Error(ErrorCode::Invalid, fmt::format("{} bytes long, at most {} are read", file->size(), limit),
                shown(path));
  return file->read_exactly(0, file->size(), shown(path));
}

std::string FileReader::physical(std::string_view directory) {
  const std::string top = real_path(""), whole = real_path(directory);
  if (whole == top) return {};
  const std::size_t skip = top == "/" ? 1 : top.size() + 1;
  if (!whole.starts_with(top) || whole.size() <= skip)
    throw Error(ErrorCode::Internal, "a directory lies outside of its root", shown(directory));
  return whole.substr(skip);
}

Digest FileReader::digest(std::string_view path) {
  constexpr std::uint64_t kPiece = 1 << 20;
  const auto file = open(path);
  Sha256 running;
  for (std::uint64_t at = 0; at < file->size(); at += kPiece)
    running.update(file->read_exactly(at, std::min(kPiece, file->size() - at), shown(path)));
  return running.finish();
}

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

namespace {

class ReaderByPath final : public DirectoryReader {
 public:
  ReaderByPath(FileReader& files, std::string_view path) : files_(files), path_(path) {}
  std::optional<FileInfo> stat(std::string_view name) override { return files_.stat(join_path(path_, name)); }

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
  void set_metadata(std::string_view name, const Metadata& metadata) override {
    files_.set_metadata(join_path(path_, name), metadata);
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
  if (metadata.mtime) set_mtime(path, *metadata.mtime, 0);
}

void FileSystem::make_directories(std::string_view path) {
  if (path.empty() || stat_followed(path)) return;
  make_directories(parent_of(path));
  make_directory(path, 0755);
}

void FileSystem::remove_tree(std::string_view path) {
  // Iterative: the depth of a tree is somebody else's choice.
  const auto top = stat(path);
  if (!top) return;
  std::vector<std::pair<std::string, bool>> stack{{std::string(path), false}};
  while (!stack.empty()) {
    auto [at, emptied] = stack.back();
    stack.pop_back();
    const auto info = stat(at);
    if (!info) continue;
    if (info->type != FileType::Directory) {
      remove_file(at);
    } else if (emptied) {
      remove_directory(at);
    } else {
      stack.emplace_back(at, true);
      for (const std::string& name : list(at)) stack.emplace_back(join_path(at, name), false);
    }
  }
}

namespace {

/// Writes a file beside another and renames it over that one.
void replace(FileSystem& root, std::string_view path, std::string_view content, std::uint32_t mode, bool durable) {
  const std::string beside = std::string(path) + ".new";
  if (root.stat(beside)) root.remove_file(beside);
  const auto file = root.create(beside, mode);
  file->write(content);
  if (durable) file->sync();
  root.rename(beside, path);
  if (durable) root.sync_directory(parent_of(path));
}

}  // namespace

void FileSystem::replace_file(std::string_view path, std::string_view content, std::uint32_t mode) {
  replace(*this, path, content, mode, true);
}

void FileSystem::replace_cache(std::string_view path, std::string_view content, std::uint32_t mode) {
  replace(*this, path, content, mode, false);
}

void require_clean(std::string_view path) {
  if (path.empty()) return;
  for (std::size_t at = 0; at <= path.size();) {
    const std::string_view part = path.substr(at, path.find('/', at) - at);
    at += part.size() + 1;
    if (part.empty() || part == "." || part == ".." || part.find('\0') != std::string_view::npos)
      throw Error(ErrorCode::Internal, "an unclean path reached the file system", printable(path));
  }
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

void copy_content(ReadableFile& from, WritableFile& to, const std::string& where) {
  constexpr std::uint64_t kPiece = 1 << 20;
  for (std::uint64_t done = 0; done < from.size(); done += kPiece)
    to.write(from.read_exactly(done, std::min(kPiece, from.size() - done), where));
}

}  // namespace hambrel::os
