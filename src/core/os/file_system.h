// The only way to the disk: one directory tree, and nothing outside of it.
//
// A FileSystem is bound to one root directory. Every path given to it is relative to that root, without a leading '/',
// without empty, "." or ".." parts ("" is the root itself). Parents are resolved inside the root as if it were "/"
// (a symbolic link in them that points outside is taken relative to the root); the last part is never followed.
// Every failure is an Error{Io} that names the path; "is not there" is a value only where the signature says so.
//
// Looking follows links in parents. Changing does so only where the keepers of the root made them: a link must belong
// to root, to the caller or to the owner of the root directory, and so must every directory on the way to it, which
// nobody else may write to. Any other link on the way ends in Error{Refused}: whoever owns a directory in the system
// must not lead root elsewhere by it.
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
  /// When anything of it was changed last, its name included: nobody can set it. 0: not known.
  std::int64_t changed_seconds = 0;
  std::int64_t changed_nanoseconds = 0;
  std::uint64_t inode = 0, device = 0, links = 0;
  std::uint64_t mount = 0;  // which mount it is reached through: a rename can't lead from one to another
  bool fixed = false;       // immutable or append-only: neither it nor, for a directory, what is in it can be replaced
};

struct Owner {
  std::uint32_t uid = 0, gid = 0;
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
  /// What is open, as it is now; nothing where it is no file of a disk.
  virtual std::optional<FileInfo> info() { return std::nullopt; }
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

/// A file that is read and written anywhere in it: a database.
class DatabaseFile : public ReadableFile {
 public:
  virtual void write_at(std::uint64_t offset, std::span<const std::byte> data) = 0;
  virtual void truncate(std::uint64_t size) = 0;
  virtual void sync() = 0;
  /// Takes the kernel's lock on it, which goes with this object or its process. False: another one has it.
  [[nodiscard]] virtual bool try_lock() = 0;
  /// The same with a lock of the other kind that the kernel has (fcntl(2)), which other programs take.
  [[nodiscard]] virtual bool try_record_lock() { return true; }
};

/// What a file, directory or link is given before it goes to its place.
struct Metadata {
  std::optional<std::pair<std::uint32_t, std::uint32_t>> owner{};  // user and group; none: the caller's
  std::map<std::string, std::string> inherited{};                  // extended attributes that the mode narrows
  std::optional<std::uint32_t> mode{};                             // none: a link
  std::map<std::string, std::string> attributes{};
  std::string label{};                  // security.selinux, left out where the file system has no such thing
  std::optional<std::int64_t> mtime{};  // seconds
};

inline constexpr const char* kLabelAttribute = "security.selinux";

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
  /// Or this one, where there is nothing to finish: throws what the file system tells only now.
  virtual void close() {}
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
  /// What is in it, without "." and "..", in any order. Links are told as links.
  struct Entry {
    std::string name;
    FileType type = FileType::Other;
  };
  virtual std::vector<Entry> entries() = 0;
};

class Directory : public DirectoryReader {
 public:
  // As the calls of FileSystem for a name in it.
  virtual std::vector<std::string> list() = 0;
  virtual void remove_file(std::string_view name) = 0;
  virtual void remove_directory(std::string_view name) = 0;
  /// A directory in it, which is no link.
  virtual std::unique_ptr<Directory> enter(std::string_view name) = 0;
  /// Owner and mode of a directory in it that has this inode number; Error{Refused} where something else is there now.
  virtual void set_attributes(std::string_view name, std::uint64_t inode, std::optional<Owner> owner,
                              std::uint32_t mode) = 0;
  virtual std::unique_ptr<WritableFile> create(std::string_view name, std::uint32_t mode) = 0;
  virtual void make_directory(std::string_view name, std::uint32_t mode) = 0;
  virtual void set_metadata(std::string_view name, const Metadata& metadata) = 0;
  // `other` is of the same file system.
  virtual void make_hard_link(std::string_view name, Directory& other, std::string_view there) = 0;
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
  /// The same for what others may put something else in the place of: no link is followed in the last part, and in
  /// parents only as for changing.
  virtual std::unique_ptr<ReadableFile> open_itself(std::string_view path) = 0;
  /// The first link in the parents of `path` that changing would not follow.
  virtual std::optional<std::string> strange_link(std::string_view /*path*/) { return std::nullopt; }
  /// Would this directory be renamed, if asked to? An overlay does not do that with one of its lower layers, unless it
  /// was mounted so. `info`: its own. `full`: another directory, in which there is something.
  virtual bool can_rename_directory(std::string_view /*path*/, const FileInfo& /*info*/, std::string_view /*full*/) {
    return true;
  }
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

  /// Of what was there a moment ago, or is there for certain: Error{Refused} where somebody has taken it away since.
  FileInfo stat_present(std::string_view path);
  FileInfo stat_followed_present(std::string_view path);
  /// Nothing if it is not there, or no directory; a link in the last part is followed (inside the root).
  virtual std::unique_ptr<DirectoryReader> look_into(std::string_view path);

  /// The path of an existing directory without links in it.
  std::string physical(std::string_view directory);
  /// SHA-256 of a whole file, read in pieces by open_itself().
  Digest digest(std::string_view path);
  /// The whole content of a file that must not be larger than `limit` bytes.
  std::string read_all(std::string_view path, std::uint64_t limit);
  /// The same by open_itself().
  std::string read_itself(std::string_view path, std::uint64_t limit);
};

class FileSystem : public FileReader {
 public:
  /// Creates a file that must not exist yet.
  virtual std::unique_ptr<WritableFile> create(std::string_view path, std::uint32_t mode) = 0;
  /// A regular file that exists, to write at its end.
  virtual std::unique_ptr<WritableFile> append(std::string_view path) = 0;
  /// A regular file with one name, to read and write; it is made, with this mode, if there is none.
  virtual std::unique_ptr<DatabaseFile> open_database(std::string_view path, std::uint32_t mode) = 0;
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
  /// If it is there. This and what follows: only below Hambrel's own directories, on whose way nobody else changes
  /// anything. (overlay.cpp)
  virtual void remove_attribute(std::string_view path, const std::string& name);
  /// What an overlay's layer has for what it hides of a lower one. Throws Error{Io} where the file system, or the
  /// rights of this process, don't allow it.
  virtual void make_whiteout(std::string_view path);
  virtual bool is_whiteout(std::string_view path);
  /// The security label, where the file system has such things.
  virtual void set_label(std::string_view path, std::string_view label) { set_attribute(path, kLabelAttribute, label); }
  virtual void set_mtime(std::string_view path, std::int64_t seconds, std::int64_t nanoseconds) = 0;
  virtual void sync_directory(std::string_view path) = 0;
  /// From now on no failure to write to the file system that holds a directory goes unnoticed: sync_all() throws it,
  /// whoever the kernel told of it in between. To be called before the first write.
  virtual void watch_writes(std::string_view /*directory*/) {}
  /// Everything written so far to the file system that holds `path` is on the disk afterwards. Throws what early
  /// writing or a watched file system has met.
  virtual void sync_all(std::string_view path) = 0;

  /// Owner before mode (chown clears set-id bits), then extended attributes (chown clears capabilities too), then the
  /// time. An inherited access list comes before the mode, which narrows it as it would have in its place.
  void set_metadata(std::string_view path, const Metadata& metadata);
  /// Makes missing directories from the top down with mode 0755.
  void make_directories(std::string_view path);
  /// A directory that somebody else may make at the same moment.
  void make_if_missing(std::string_view path, std::uint32_t mode);
  /// Removes a tree; a missing path is fine. Walks by directories held open: whoever swaps names below it meanwhile
  /// loses no more than what is there.
  void remove_tree(std::string_view path);
  /// Replaces a file as a whole: written beside it, synced, renamed over it, directory synced.
  void replace_file(std::string_view path, std::string_view content, std::uint32_t mode);
  /// The same for a file of the administrator's: one that is there hands on its mode and owner.
  void edit_file(std::string_view path, std::string_view content, std::uint32_t mode);
  /// As replace_file() without waiting for the disk: for what is checked whenever it is read, and made again if
  /// damaged.
  void replace_cache(std::string_view path, std::string_view content, std::uint32_t mode);
  /// The same of pieces that are written one after the other.
  void replace_cache(std::string_view path, std::span<const std::span<const std::byte>> pieces, std::uint32_t mode);
};

/// The tree below `root` (an absolute or relative host path of an existing directory).
std::unique_ptr<FileSystem> open_file_system(const std::string& root);

/// A file without a name, in the directory that TMPDIR names or /var/tmp: gone when it is let go.
std::unique_ptr<DatabaseFile> open_scratch();

/// A regular file that is opened for each read and closed again: for files of which thousands are read side by side.
/// Its size does not change.
std::unique_ptr<ReadableFile> open_each_time(std::shared_ptr<FileReader> files, std::string path);
std::unique_ptr<ReadableFile> open_each_time(FileReader& files, std::string path);  // which outlives it

/// SHA-256 of a whole file, read in pieces.
Digest digest_of(ReadableFile& file, const std::string& where);

/// The whole content of one file into another, in pieces. `where` names the first in messages. Returns its digest.
Digest copy_content(ReadableFile& from, WritableFile& to, const std::string& where);

/// Error{Refused}: at a place is not what was planned for.
[[noreturn]] void refuse_another(const std::string& where);

/// Is it a path that a FileSystem takes? See the head. The root itself is ("").
bool is_clean(std::string_view path);
/// Error{Internal} where it is not.
void require_clean(std::string_view path);
std::string_view parent_of(std::string_view path);  // "" for a name at the top
std::string_view name_of(std::string_view path);
bool is_below(std::string_view path, std::string_view directory);  // which is not the root
std::string join_path(std::string_view parent, std::string_view name);
/// A host path, as given by the administrator, made absolute, with "." and ".." and double '/' taken out by text,
/// and without the leading '/': what open_file_system("/") understands.
std::string host_path(std::string_view given);

}  // namespace hambrel::os
