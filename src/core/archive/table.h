// The table of contents of a package file: where every byte of it is, and what it must be.
//
//   [frame 0][frame 1]...[frame n] [skippable: table] [skippable: footer, 72 bytes]        docs/format.md is normative
//
// Invariants of a checked table (check_table), on which everything that reads packages relies:
//   T1 the frames tile the file from byte 0 to the table without gap or overlap
//   T2 entry paths are clean (model/package.h), strictly ascending by bytes, and outside Hambrel's own directories
//   T3 the directory of every entry is an entry before it, and a directory
//   T4 a hard link names an earlier regular file; a symbolic link does not climb out of the root
//   T5 the plain content of the frames is exactly the canonical tar stream of the manifest, the entries in order,
//      and the end marker: every offset is what tar_header() and the sizes make it
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "base/digest.h"
#include "model/file_entry.h"
#include "model/package.h"

namespace hambrel::archive {

struct Frame {
  std::uint64_t offset = 0, size = 0;  // in the package file
  std::uint64_t plain_size = 0;
  Digest digest;  // of the compressed bytes
};

struct Entry : FileEntry {
  std::uint32_t frame = 0;   // where the content begins: this frame,
  std::uint64_t offset = 0;  // this far into its plain bytes; it goes on through the next frames
};

struct Table {
  std::vector<Frame> frames;
  std::uint64_t manifest_offset = 0, manifest_size = 0;  // in the plain bytes of frame 0
  std::vector<Entry> entries;
};

// Limits: a reader refuses what is beyond them, a writer never makes it.
inline constexpr std::uint64_t kMostTableBytes = 256ULL << 20;  // plain
inline constexpr std::uint64_t kMostFrameBytes = 16ULL << 20;   // plain
inline constexpr std::uint64_t kMostManifestBytes = 1ULL << 20;
inline constexpr std::size_t kMostEntries = 1'000'000;
inline constexpr std::uint64_t kMostMode = 07777, kMostTime = 077777777777ULL;  // seconds: what a tar header holds
inline constexpr std::size_t kFooterSize = 72;

/// What the footer holds.
struct Footer {
  std::uint64_t table_offset = 0, table_size = 0;  // of the stored (compressed) table, without its frame header
  Digest table_digest;
};

/// The canonical tar bytes that stand before the content of an entry: a ustar header, before it a pax extended header
/// where the entry needs one (POSIX.1-2008, pax interchange format).
std::string tar_header(const Entry& entry);
std::uint64_t tar_header_size(const Entry& entry);  // bytes of that, without making it
/// Zero bytes that fill content up to a whole number of 512-byte blocks.
std::uint64_t tar_padding(std::uint64_t size);

std::string encode_table(const Table& table);                            // compressed
Table decode_table(std::string_view stored, const std::string& where);   // decompresses, parses, no check yet
std::string encode_footer(const Footer& footer);                         // with its frame header
Footer decode_footer(std::string_view bytes, const std::string& where);  // exactly kFooterSize bytes
std::string skippable_header(std::uint32_t magic, std::uint32_t size);
inline constexpr std::uint32_t kTableMagic = 0x184D2A5D, kFooterMagic = 0x184D2A5E;

/// Throws Error{Untrusted} naming the entry and what is wrong with it. `table_at` is where the frames must end.
void check_table(const Table& table, std::uint64_t table_at, const std::string& where);

}  // namespace hambrel::archive
