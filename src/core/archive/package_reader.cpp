#include "archive/package_reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "archive/frame_codec.h"
#include "base/error.h"
#include "base/text.h"
#include "model/manifest.h"

namespace hambrel::archive {

namespace {

[[noreturn]] void damaged(const std::string& what, const std::string& where) {
  throw Error(ErrorCode::Untrusted, what, where, "fetch or copy the file again");
}

}  // namespace

Table read_table(std::string_view stored, const Footer& footer, const std::string& where) {
  if (sha256(stored) != footer.table_digest) damaged("the table of contents is damaged (its digest differs)", where);
  Table table = decode_table(stored, where);
  check_table(table, footer.table_offset - 8, where);
  return table;
}

PackageReader::PackageReader(std::unique_ptr<os::ReadableFile> file, std::string where)
    : file_(std::move(file)), where_(std::move(where)) {
  read_footer();
  table_ = std::make_shared<const Table>(
      read_table(file_->read_exactly(footer_.table_offset, footer_.table_size, where_), footer_, where_));
}

PackageReader::PackageReader(std::unique_ptr<os::ReadableFile> file, std::string where, const Digest& digest,
                             std::shared_ptr<const Table> known)
    : file_(std::move(file)), where_(std::move(where)), table_(std::move(known)) {
  read_footer();
  if (footer_.table_digest != digest) damaged("the table of contents is not the one that the index names");
  if (sha256(file_->read_exactly(footer_.table_offset, footer_.table_size, where_)) != digest)
    damaged("the table of contents is damaged (its digest differs)");
}

PackageReader::PackageReader(std::unique_ptr<os::ReadableFile> file, std::string where, const Footer& footer,
                             std::shared_ptr<const Table> known)
    : file_(std::move(file)), where_(std::move(where)), arriving_(true), footer_(footer), table_(std::move(known)) {}

void PackageReader::damaged(const std::string& what) const {
  if (arriving_)
    throw Error(ErrorCode::Untrusted, what, where_,
                "run `hambrel refresh` and try again; if it stays, the repository or its mirror was tampered with");
  hambrel::archive::damaged(what, where_);
}

void PackageReader::read_footer() {
  const std::uint64_t size = file_->size();
  if (size < kFooterSize + 8) damaged("not a Hambrel package file: too short");
  footer_ = decode_footer(file_->read_exactly(size - kFooterSize, kFooterSize, where_), where_);
  const std::uint64_t table_end = size - kFooterSize;
  if (footer_.table_offset < 8 || footer_.table_offset > table_end ||
      footer_.table_size != table_end - footer_.table_offset)
    damaged("the footer does not fit the file");
  const std::string head = file_->read_exactly(footer_.table_offset - 8, 8, where_);
  if (footer_.table_size > UINT32_MAX ||
      head != skippable_header(kTableMagic, static_cast<std::uint32_t>(footer_.table_size)))
    damaged("the table of contents is not where the footer says");
}

const Entry* PackageReader::find(std::string_view path) const {
  const auto at = std::lower_bound(table_->entries.begin(), table_->entries.end(), path,
                                   [](const Entry& entry, std::string_view wanted) { return entry.path < wanted; });
  return at != table_->entries.end() && at->path == path ? &*at : nullptr;
}

std::uint64_t PackageReader::end_of(const Entry& entry) const {
  if (entry.type != EntryType::File || entry.size == 0) return 0;
  std::size_t number = entry.frame;
  for (std::uint64_t left = entry.size + entry.offset; left > table_->frames[number].plain_size; ++number)
    left -= table_->frames[number].plain_size;
  return table_->frames[number].offset + table_->frames[number].size;
}

std::string_view PackageReader::frame(std::size_t number, FrameDecoder& decoder, std::uint64_t needed) const {
  const Frame& frame = table_->frames[number];
  const auto stored = decoder.room(frame.size);
  if (file_->read_at(frame.offset, std::as_writable_bytes(stored)) != stored.size())
    damaged(fmt::format("cut off in the frame at offset {}", frame.offset));
  if (sha256(std::as_bytes(stored)) != frame.digest)
    damaged(fmt::format("damaged at offset {} (a frame's digest differs)", frame.offset));
  return decoder.decode_start(frame.plain_size, std::min(needed, frame.plain_size), where_);
}

Package PackageReader::manifest() const {
  FrameDecoder decoder;
  return parse_manifest(frame(0, decoder).substr(table_->manifest_offset, table_->manifest_size), where_);
}

std::string PackageReader::content(const Entry& entry) const {
  if (entry.type == EntryType::HardLink) return content(*find(entry.target));
  if (entry.type != EntryType::File)
    throw Error(ErrorCode::NotFound, fmt::format("{} has no content", entry.path), where_);
  std::string result;
  FrameDecoder decoder;
  std::uint64_t offset = entry.offset;
  for (std::size_t number = entry.frame; result.size() < entry.size; ++number, offset = 0)
    result += frame(number, decoder).substr(offset, entry.size - result.size());
  if (sha256(result) != entry.digest)
    damaged(fmt::format("the content of {} is not what the table promises", entry.path));
  return result;
}

/// Asks for the frames of what is wanted among some entries, those that lie beside each other together.
void PackageReader::expect(const Sink& sink, std::size_t first, std::size_t last) const {
  std::uint64_t start = 0, end = 0;
  std::size_t asked = 0;  // frames before this one have been seen to
  for (std::size_t i = first; i < last; ++i) {
    const Entry& entry = table_->entries[i];
    if (entry.type != EntryType::File || !sink.want(entry)) continue;
    std::uint64_t left = entry.size + entry.offset;
    for (std::size_t number = entry.frame; left > 0; ++number) {
      const Frame& frame = table_->frames[number];
      left -= std::min(left, frame.plain_size);
      if (number < asked) continue;
      asked = number + 1;
      if (frame.offset != end) {
        if (end > start) file_->expect(start, end - start);
        start = frame.offset;
      }
      end = frame.offset + frame.size;
    }
  }
  if (end > start) file_->expect(start, end - start);
}

void PackageReader::extract(const Sink& sink, std::size_t first, std::size_t last, FrameDecoder& decoder) const {
  expect(sink, first, last);
  std::size_t held = SIZE_MAX;
  std::string_view plain;
  // how far into a frame anything is wanted, from the first entry that is
  const auto needed = [&](std::size_t i, std::size_t number) {
    std::uint64_t end = 0;
    for (; i < last && (table_->entries[i].type != EntryType::File || table_->entries[i].frame <= number); ++i) {
      const Entry& entry = table_->entries[i];
      if (entry.type != EntryType::File || !sink.want(entry)) continue;
      std::uint64_t before = 0;  // bytes of it in earlier frames
      for (std::size_t k = entry.frame; k < number; ++k)
        before += table_->frames[k].plain_size - (k == entry.frame ? entry.offset : 0);
      end = entry.size - before + (number == entry.frame ? entry.offset : 0);
    }
    return end;
  };
  for (std::size_t i = first; i < last; ++i) {
    const Entry& entry = table_->entries[i];
    if (!sink.want(entry)) continue;
    sink.begin(entry);
    if (entry.type == EntryType::File) {
      std::uint64_t left = entry.size, offset = entry.offset;
      for (std::size_t number = entry.frame; left > 0; ++number, offset = 0) {
        if (number != held) plain = frame(number, decoder, needed(i, number)), held = number;
        const std::uint64_t piece = std::min<std::uint64_t>(left, plain.size() - offset);
        sink.data(entry, plain.substr(offset, piece));
        left -= piece;
      }
    }
    sink.end(entry);
  }
}

void PackageReader::verify_all() const {
  // The stream of all plain bytes is compared with the canonical tar stream of the table, piece by piece.
  FrameDecoder decoder;
  std::size_t number = 0;
  std::string_view plain;
  std::size_t at = 0;
  const auto take = [&](std::uint64_t most) {
    while (at == plain.size()) {
      if (number == table_->frames.size()) damaged("the frames end early");
      plain = frame(number++, decoder), at = 0;
    }
    const std::string_view piece = plain.substr(at, most);
    at += piece.size();
    return piece;
  };
  const auto expect = [&](std::string_view wanted, const std::string& path) {
    while (!wanted.empty()) {
      const std::string_view piece = take(wanted.size());
      if (piece != wanted.substr(0, piece.size()))
        damaged(fmt::format("the tar header of {} does not say what the table says", printable(path)));
      wanted.remove_prefix(piece.size());
    }
  };
  const Package package = manifest();
  Entry head;
  head.path = ".hambrel/manifest.json", head.mode = 0644, head.size = table_->manifest_size;
  expect(tar_header(head), head.path);
  for (std::uint64_t left = table_->manifest_size; left > 0;) left -= take(left).size();
  expect(std::string(tar_padding(head.size), '\0'), head.path);
  ByteCount total = 0;
  std::uint64_t files = 0;
  Sha256 running;
  for (const Entry& entry : table_->entries) {
    expect(tar_header(entry), entry.path);
    if (entry.type != EntryType::Directory) ++files;
    if (entry.type != EntryType::File) continue;
    for (std::uint64_t left = entry.size; left > 0;) {
      const std::string_view piece = take(left);
      running.update(piece);
      left -= piece.size();
    }
    if (running.finish() != entry.digest)
      damaged(fmt::format("the content of {} is not what the table promises", printable(entry.path)));
    expect(std::string(tar_padding(entry.size), '\0'), entry.path);
    total += entry.size;
  }
  expect(std::string(1024, '\0'), "the end");
  if (total != package.installed_size || files != package.file_count)
    damaged("the manifest does not fit the files of the package");
  require_named_privileges(*table_, package, where_);
}

}  // namespace hambrel::archive
