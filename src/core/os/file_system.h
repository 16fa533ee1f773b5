// The only way to the disk: one directory tree, and nothing outside of it.
//
// A FileSystem is bound to one root directory. Every path given to it is relative to that root, without a leading '/',
// without empty, "." or ".." parts ("" is the root itself). Parents are resolved inside the root as if it were "/"
// (a symbolic link in them that points outside is taken relative to the root); the last part is never followed.
// Every failure is an Error{Io} that names the path; "is not there" is a value only where the signature says so.
//
// FileReader is the half that cannot write: what is only to look is given that half.
#pragma once

#include <cstddef>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/digest.h"
#include "base/image.h"

namespace hambrel::os {

enum class FileType { Regular, Directory, Symlink, Other };

struct FileInfo {
  FileType type = FileType::Other;
  std::uint32_t mode = 0;  // permission bits only, 07777
  std::uint32_t uid = 0, gid = 0;
  std::uint64_t size = 0;  // bytes
  std::int64_t mtime_seconds = 0;
  std::int64_t mtime_nanoseconds = 0;
  std::uint64_t inode = 0, device = 0, links = 0;
  std::uint64_t mount = 0;  // which mount it is reached through: a rename can't lead from one to another
  bool fixed = false;       // immutable or append-only: neither it nor, for a directory, what is in it can be replaced
};

struct Space {
  std::uint64_t free_bytes = 0;   // for this process
  std::uint64_t free_inodes = 0;  // 0 with total_inodes 0: the file system does not count them
  std::uint64_t total_inodes = 0;
};

class ReadableFile {
 public:
  virtual ~ReadableFile() = default;
  virtual std::uint64_t size() const = 0;
  /// Fills `into` from `offset`; fewer bytes only at the end of the file.
  virtual std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) = 0;
  /// Bytes from its start that can be read without waiting; size() also when the reading would fail.
  virtual std::uint64_t arrived() const { return size(); }
  /// So many bytes from `offset` will be read soon: a wish, which costs nothing where they are at hand.
  virtual void expect(std::uint64_t /*offset*/, std::uint64_t /*size*/) {}
  /// Exactly `size` bytes from `offset`, or Error{Untrusted} that the file is cut off.
  std::string read_exactly(std::uint64_t offset, std::size_t size, std::string_view where);
};

/// A file that lies in memory.
class MemoryFile final : public ReadableFile {
 public:
  explicit MemoryFile(std::string content) : content_(std::move(content)) {}
  std::uint64_t size() const override { return content_.size(); }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override;

 private:
  std::string content_;
};

/// What a file, directory or link is given before it goes to its place.
struct Metadata {
  std::optional<std::pair<std::uint32_t, std::uint32_t>> owner{};  // user and group; none: the caller's
  std::map<std::string, std::string> inherited{};                  // extended attributes that the mode narrows
  std::optional<std::uint32_t> mode{};                             // none: a link
  std::map<std::string, std::string> attributes{};
  std::optional<std::int64_t> mtime{};  // seconds
};

class WritableFile {
 public:
  virtual ~WritableFile() = default;
  virtual void write(std::span<const std::byte> data) = 0;
  /// As writing so many zeros, which take no room on the disk.
  virtual void skip(std::uint64_t size) = 0;
  void write(std::string_view text) { write(std::as_bytes(std::span(text))); }
  virtual void sync() = 0;
  /// The last call, in the order of FileSystem::set_metadata(); what was written may begin to go to the disk.
  virtual void finish(const Metadata& metadata) = 0;
};

/// A directory held open, so that much that is done in it does not walk its path each time. Nobody renames it
/// meanwhile. Several threads may use one file system and its directories.
class DirectoryReader {
 public:
  virtual ~DirectoryReader() = default;
  /// As FileReader::stat() of a name in it.
  virtual std::optional<FileInfo> stat(std::string_view name) = 0;
  /// A directory in it. Nothing if it is a link or no directory, or if only the file system can tell.
  virtual std::unique_ptr<DirectoryReader> look_into(std::string_view) { return nullptr; }
};

class Directory : public DirectoryReader {
 public:
  // As the calls of FileSystem for a name in it.
  virtual std::unique_ptr<WritableFile> create(std::string_view name, std::uint32_t mode) = 0;
  virtual void make_directory(std::string_view name, std::uint32_t mode) = 0;
  virtual void set_metadata(std::string_view name, const Metadata& metadata) = 0;
  // `other` is of the same file system.
  virtual void rename_no_replace(std::string_view name, Directory& other, std::string_view there) = 0;
  virtual void rename_exchange(std::string_view name, Directory& other, std::string_view there) = 0;
};

using ExtendedAttributes = std::map<std::string, std::string>;

class FileReader {
 public:
  virtual ~FileReader() = default;
  virtual std::optional<FileInfo> stat(std::string_view path) = 0;
  /// Like stat, but a link in the last part is followed (inside the root).
  virtual std::optional<FileInfo> stat_followed(std::string_view path) = 0;
  virtual std::string read_link(std::string_view path) = 0;
  /// Names in a directory, sorted by bytes, without "." and "..".
  virtual std::vector<std::string> list(std::string_view path) = 0;
  /// Opens a regular file (a link in the last part is followed inside the root). Throws if it is anything else.
  virtual std::unique_ptr<ReadableFile> open(std::string_view path) = 0;
  /// The content of a regular file where it lies, for as long as the result is held. The file must not be written to
  /// meanwhile: replace it instead.
  virtual std::shared_ptr<const Bytes> map(std::string_view path) = 0;
  virtual ExtendedAttributes attributes(std::string_view path) = 0;
  virtual Space space(std::string_view path) = 0;
  /// Where a directory really is on the host, for libraries that open files by name.
  virtual std::string real_path(std::string_view directory) = 0;
  /// Everything below the root that something is mounted on, directories and files, sorted.
  virtual std::vector<std::string> mount_points() = 0;
  /// For messages: the path as the administrator would write it.
  virtual std::string shown(std::string_view path) const = 0;

  /// Nothing if it is not there, or no directory; a link in the last part is followed (inside the root).
  virtual std::unique_ptr<DirectoryReader> look_into(std::string_view path);

  /// The path of an existing directory without links in it.
  std::string physical(std::string_view directory);
  /// SHA-256 of a whole file, read in pieces.
  Digest digest(std::string_view path);
  /// The whole content of a file that must not be larger than `limit` bytes.
  std::string read_all(std::string_view path, std::uint64_t limit);
};

class FileSystem : public FileReader {
 public:
  /// Creates a file that must not exist yet.
  virtual std::unique_ptr<WritableFile> create(std::string_view path, std::uint32_t mode) = 0;
  /// A regular file that exists, to write at its end.
  virtual std::unique_ptr<WritableFile> append(std::string_view path) = 0;
  virtual std::unique_ptr<Directory> open_directory(std::string_view path);
  virtual void make_directory(std::string_view path, std::uint32_t mode) = 0;
  virtual void make_symlink(std::string_view target, std::string_view path) = 0;
  virtual void make_hard_link(std::string_view existing, std::string_view path) = 0;
  virtual void rename(std::string_view from, std::string_view to) = 0;             // replaces `to`
  virtual void rename_no_replace(std::string_view from, std::string_view to) = 0;  // fails when `to` exists
  virtual void rename_exchange(std::string_view a, std::string_view b) = 0;        // both must exist
  virtual void remove_file(std::string_view path) = 0;
  virtual void remove_directory(std::string_view path) = 0;
  virtual void set_owner(std::string_view path, std::uint32_t uid, std::uint32_t gid) = 0;
  virtual void set_mode(std::string_view path, std::uint32_t mode) = 0;  // not for links
  virtual void set_attribute(std::string_view path, const std::string& name, std::string_view value) = 0;
  virtual void set_mtime(std::string_view path, std::int64_t seconds, std::int64_t nanoseconds) = 0;
  virtual void sync_directory(std::string_view path) = 0;
  /// Everything written so far to the file system that holds `path` is on the disk afterwards.
  virtual void sync_all(std::string_view path) = 0;

  /// Owner before mode (chown clears set-id bits), then extended attributes (chown clears capabilities too), then the
  /// time. An inherited access list comes before the mode, which narrows it as it would have in its place.
  void set_metadata(std::string_view path, const Metadata& metadata);
  /// Makes missing directories from the top down with mode 0755.
  void make_directories(std::string_view path);
  /// Removes a tree, links not followed; a missing path is fine.
  void remove_tree(std::string_view path);
  /// Replaces a file as a whole: written beside it, synced, renamed over it, directory synced.
  void replace_file(std::string_view path, std::string_view content, std::uint32_t mode);
  /// The same without waiting for the disk: for what is checked whenever it is read, and made again if damaged.
  void replace_cache(std::string_view path, std::string_view content, std::uint32_t mode);
};

/// The tree below `root` (an absolute or relative host path of an existing directory).
std::unique_ptr<FileSystem> open_file_system(const std::string& root);

/// A regular file that is opened for each read and closed again: for files of which thousands are read side by side.
/// Its size does not change.
std::unique_ptr<ReadableFile> open_each_time(std::shared_ptr<FileReader> files, std::string path);
std::unique_ptr<ReadableFile> open_each_time(FileReader& files, std::string path);  // which outlives it

/// The whole content of one file into another, in pieces. `where` names the first in messages.
void copy_content(ReadableFile& from, WritableFile& to, const std::string& where);

/// Error{Internal} for a path that no FileSystem takes: see the head.
void require_clean(std::string_view path);
std::string_view parent_of(std::string_view path);  // "" for a name at the top
std::string_view name_of(std::string_view path);
bool is_below(std::string_view path, std::string_view directory);  // which is not the root
std::string join_path(std::string_view parent, std::string_view name);
/// A host path, as given by the administrator, made absolute, with "." and ".." and double '/' taken out by text,
/// and without the leading '/': what open_file_system("/") understands.
std::string host_path(std::string_view given);

}  // namespace hambrel::os
