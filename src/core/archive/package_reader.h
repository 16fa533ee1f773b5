// Reading a package file: the manifest and any single file without reading the rest, and everything for staging.
//
// Invariant: nothing is handed out that was not verified: the table by the footer's digest (and by the caller's, where
// an index knows it), every frame by the table's digest of its compressed bytes, before a byte of it is decompressed.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>

#include "archive/contents.h"
#include "archive/frame_codec.h"
#include "archive/frame_ranges.h"
#include "archive/signatures.h"
#include "model/package.h"
#include "os/file_system.h"

namespace hambrel::archive {

class PackageReader {
 public:
  /// Reads and checks footer and table. Throws Error{Untrusted} for anything damaged.
  PackageReader(std::unique_ptr<os::ReadableFile> file, std::string where);
  /// As before, where the table was read already: `known` must be the one whose digest is `digest`, which the footer
  /// has to name. The one in the file is not read again.
  PackageReader(std::unique_ptr<os::ReadableFile> file, std::string where, const Digest& digest,
                std::shared_ptr<const Contents> known);

  /// Where the file is still arriving, and so nothing of it is read now: `footer` is what the index says.
  PackageReader(std::unique_ptr<os::ReadableFile> file, std::string where, const Footer& footer,
                std::shared_ptr<const Contents> known);

  const Contents& contents() const { return *contents_; }
  const std::shared_ptr<const Contents>& shared_contents() const { return contents_; }
  const Footer& footer() const { return footer_; }
  /// As they stand there; nobody has verified them. None of a file that is arriving.
  const std::vector<PackageSignature>& signatures() const { return signatures_; }
  std::uint64_t file_size() const { return file_->size(); }
  /// Bytes from the start of the file that can be read without waiting.
  std::uint64_t arrived() const { return file_->arrived(); }
  /// Where in the file the content of an entry ends, frame and all: what has to arrive before it can be read.
  std::uint64_t end_of(std::size_t number) const;
  /// Does the frame in which the content of an entry begins come after that offset in the file?
  bool begins_after(std::size_t number, std::uint64_t end) const {
    return contents_->frames()[contents_->place(number).frame].offset >= end;
  }
  const std::string& where() const { return where_; }
  std::optional<Entry> find(std::string_view path) const;

  /// Reads frame 0 only.
  Package manifest() const;
  /// What its maker says of how it was built from source: a JSON object; empty: nothing. Nobody has checked it.
  std::string built() const;
  /// The content of one regular file (or of the file a hard link names): reads the frames it lies in, and checks it.
  std::string content(const Entry& entry) const;

  /// What becomes of entries, each told by its place in the list of those that are wanted: `begin`, `data` with the
  /// content of a regular file in pieces, `end`.
  struct Sink {
    std::function<void(std::size_t)> begin;
    std::function<void(std::size_t, std::string_view)> data;
    std::function<void(std::size_t)> end;
  };
  /// `wanted`: numbers of entries in the table, ascending. Reads only the frames that are needed, each once, some MiB
  /// at most ahead; memory stays below that and two frames whatever the package's size. Several threads may extract at
  /// once, each with a sink and a decoder of its own.
  void extract(std::span<const std::size_t> wanted, const Sink& sink, FrameDecoder& decoder) const;

  /// Every byte of the file: all frames, the tar headers against the table, the content digests, the manifest against
  /// the entries. For files whose whole digest nobody else vouches for.
  void verify_all() const;

 private:
  [[noreturn]] void damaged(const std::string& what) const;
  void read_footer();
  void expect(std::span<const NeededFrame> frames) const;
  /// The compressed bytes of frames, one after the other in the decoder's room: read and verified.
  std::string_view verified(std::span<const NeededFrame> frames, FrameDecoder& decoder) const;
  /// They stand until the decoder's next frame.
  std::string_view frame(std::size_t number, FrameDecoder& decoder) const;

  std::unique_ptr<os::ReadableFile> file_;
  std::string where_;
  bool arriving_ = false;
  Footer footer_;
  std::vector<PackageSignature> signatures_;
  std::shared_ptr<const Contents> contents_;
};

/// Decodes and checks a table that was fetched on its own; `footer` tells what the index knows of it.
Contents read_contents(std::string_view stored, const Footer& footer, const std::string& where);

}  // namespace hambrel::archive
