#include "archive/source_archive.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <optional>

#include "archive/archive_library.h"
#include "base/error.h"
#include "base/text.h"
#include "model/package.h"

namespace hambrel::archive {

namespace {

constexpr std::size_t kPiece = 256 << 10;

/// What the library reads from.
struct Input {
  os::ReadableFile& file;
  std::string buffer;
  std::uint64_t at = 0;
  std::optional<Error> problem{};
};

la_ssize_t read_piece(::archive* reader, void* data, const void** piece) {
  auto& input = *static_cast<Input*>(data);
  try {
    const std::size_t size = input.file.read_at(input.at, std::as_writable_bytes(std::span(input.buffer)));
    input.at += size;
    *piece = input.buffer.data();
    return static_cast<la_ssize_t>(size);
  } catch (const Error& problem) {
    input.problem = problem;
    archive_library().set_error(reader, EIO, "%s", "reading failed");
    return -1;
  }
}

class Unpacker {
 public:
  Unpacker(os::ReadableFile& file, os::FileSystem& into, const UnpackLimits& limits, const std::string& where)
      : input_{file, std::string(kPiece, '\0')}, into_(into), limits_(limits), where_(where) {
    if (reader_ == nullptr) throw Error(ErrorCode::Io, "there is no memory left", where_);
    library_.read_support_filter_all(reader_);
    library_.read_support_format_tar(reader_);
    library_.read_support_format_zip(reader_);
  }
  ~Unpacker() { library_.read_free(reader_); }
  Unpacker(const Unpacker&) = delete;
  Unpacker& operator=(const Unpacker&) = delete;

  Unpacked run() {
    if (library_.read_open(reader_, &input_, nullptr, read_piece, nullptr) != ARCHIVE_OK) fail();
    for (;;) {
      archive_entry* entry = nullptr;
      const int result = library_.read_next_header(reader_, &entry);
      if (result == ARCHIVE_EOF) break;
      if (result < ARCHIVE_WARN) fail();
      if (++unpacked_.entries > limits_.entries) refuse(fmt::format("has more than {} entries", limits_.entries));
      take(entry);
    }
    if (unpacked_.entries == 0) refuse("is empty, or no archive that can be read");
    return unpacked_;
  }

 private:
  [[noreturn]] void fail() {
    if (input_.problem) throw Error(*input_.problem);
    const char* const said = library_.error_string(reader_);
    refuse(fmt::format("cannot be unpacked: {}", said == nullptr ? "it is damaged" : printable(said)));
  }
  [[noreturn]] void refuse(const std::string& what) const {
    throw Error(ErrorCode::Invalid, what, where_, "tar (also compressed) and zip archives can be unpacked");
  }

  /// As a path below the root; empty: the root itself.
  std::string path_of(const char* given, archive_entry* entry) const {
    std::string path = given == nullptr ? "" : given;
    while (path.starts_with("./")) path.erase(0, 2);
    while (path.ends_with("/")) path.pop_back();
    if (path == "." || path.empty()) return {};
    if (const std::string problem = path_problem(path); !problem.empty())
      refuse(fmt::format("has an entry \"{}\": {} cannot be unpacked",
                         printable(library_.entry_pathname(entry) == nullptr ? "" : library_.entry_pathname(entry)),
                         problem));
    return path;
  }

  void take(archive_entry* entry) {
    const std::string path = path_of(library_.entry_pathname(entry), entry);
    if (path.empty()) return;
    if (const std::string parent(os::parent_of(path)); !parent.empty()) into_.make_directories(parent);
    const auto there = into_.stat(path);
    const auto type = library_.entry_filetype(entry);
    if (const char* const first = library_.entry_hardlink(entry); first != nullptr) {
      if (!there) into_.make_hard_link(path_of(first, entry), path);
    } else if (type == AE_IFDIR) {
      if (!there) into_.make_directory(path, 0755);
    } else if (there) {
      refuse(fmt::format("has \"{}\" twice", printable(path)));
    } else if (type == AE_IFLNK) {
      const char* const target = library_.entry_symlink(entry);
      if (target == nullptr || *target == '\0') refuse(fmt::format("has a link \"{}\" to nothing", printable(path)));
      into_.make_symlink(target, path);
    } else if (type == AE_IFREG) {
      write(path, entry);
    } else {
      refuse(fmt::format("has \"{}\", which is no file, directory or link", printable(path)));
    }
  }

  void write(const std::string& path, archive_entry* entry) {
    constexpr std::uint32_t kRunnable = 0111;
    const bool runs = (static_cast<std::uint32_t>(library_.entry_perm(entry)) & kRunnable) != 0;
    const auto file = into_.create(path, runs ? 0755 : 0644);
    std::string piece(kPiece, '\0');
    for (;;) {
      const la_ssize_t size = library_.read_data(reader_, piece.data(), piece.size());
      if (size == 0) break;
      if (size < 0) fail();
      bytes_ += static_cast<std::uint64_t>(size);
      if (bytes_ > limits_.bytes) refuse(fmt::format("is larger than {} bytes when unpacked", limits_.bytes));
      file->write(std::string_view(piece).substr(0, static_cast<std::size_t>(size)));
    }
    const std::int64_t time = std::max<std::int64_t>(0, library_.entry_mtime(entry));
    unpacked_.newest = std::max(unpacked_.newest, time);
    Metadata metadata;
    metadata.mtime = time;
    file->finish(metadata);
  }

  using Metadata = os::Metadata;
  const ArchiveLibrary& library_ = archive_library();
  ::archive* const reader_ = library_.read_new();
  Input input_;
  os::FileSystem& into_;
  const UnpackLimits& limits_;
  const std::string& where_;
  std::uint64_t bytes_ = 0;
  Unpacked unpacked_;
};

}  // namespace

Unpacked unpack(os::ReadableFile& file, os::FileSystem& into, const UnpackLimits& limits, const std::string& where) {
  return Unpacker(file, into, limits, where).run();
}

}  // namespace hambrel::archive
