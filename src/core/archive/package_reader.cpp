#include "archive/package_reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "archive/frame_codec.h"
#include "base/digests.h"
#include "base/error.h"
#include "base/json.h"
#include "base/text.h"
#include "model/manifest.h"

namespace hambrel::archive {

namespace {

constexpr std::size_t kVerifiedTogether = 4 << 20;  // bytes of frames, one greater one aside,
constexpr std::size_t kMostTogether = 256;          // and so many frames

[[noreturn]] void damaged(const std::string& what, const std::string& where) {
  throw Error(ErrorCode::Untrusted, what, where, "fetch or copy the file again");
}

}  // namespace

Contents read_contents(std::string_view stored, const Footer& footer, const std::string& where) {
  if (sha256(stored) != footer.table_digest) damaged("the table of contents is damaged (its digest differs)", where);
  Table table = decode_table(stored, where);
  check_table(table, footer.table_offset - 8, where);
  return Contents(std::move(table));
}

PackageReader::PackageReader(std::unique_ptr<os::ReadableFile> file, std::string where)
    : file_(std::move(file)), where_(std::move(where)) {
  read_footer();
  contents_ = std::make_shared<const Contents>(
      read_contents(file_->read_exactly(footer_.table_offset, footer_.table_size, where_), footer_, where_));
}

PackageReader::PackageReader(std::unique_ptr<os::ReadableFile> file, std::string where, const Digest& digest,
                             std::shared_ptr<const Contents> known)
    : file_(std::move(file)), where_(std::move(where)), contents_(std::move(known)) {
  read_footer();
  if (footer_.table_digest != digest) damaged("the table of contents is not the one the index describes");
}

PackageReader::PackageReader(std::unique_ptr<os::ReadableFile> file, std::string where, const Footer& footer,
                             std::shared_ptr<const Contents> known)
    : file_(std::move(file)), where_(std::move(where)), arriving_(true), footer_(footer), contents_(std::move(known)) {}

void PackageReader::damaged(const std::string& what) const {
  if (arriving_)
    throw Error(ErrorCode::Untrusted, what, where_,
                "run `hambrel refresh` and try again; if this persists, the repository or its mirror may have been "
                "tampered with");
  hambrel::archive::damaged(what, where_);
}

void PackageReader::read_footer() {
  const std::uint64_t size = file_->size();
  if (size < kFooterSize + 8) damaged("not a Hambrel package file: too short");
  footer_ = decode_footer(file_->read_exactly(size - kFooterSize, kFooterSize, where_), where_);
  const std::uint64_t end = size - kFooterSize;
  if (footer_.table_offset < 8 || footer_.table_offset > end || footer_.table_size > end - footer_.table_offset)
    damaged("the footer does not match the file");
  const std::uint64_t table_end = footer_.table_offset + footer_.table_size;
  if (end - table_end > kMostSignatureBytes) damaged("the footer does not match the file");
  if (end > table_end) signatures_ = decode_signatures(file_->read_exactly(table_end, end - table_end, where_), where_);
  const std::string head = file_->read_exactly(footer_.table_offset - 8, 8, where_);
  if (footer_.table_size > UINT32_MAX ||
      head != skippable_header(kTableMagic, static_cast<std::uint32_t>(footer_.table_size)))
    damaged("the table of contents is not where the footer says");
}

std::optional<Entry> PackageReader::find(std::string_view path) const {
  const auto number = contents_->files().find(path);
  if (!number) return std::nullopt;
  return contents_->entry(*number);
}

std::uint64_t PackageReader::end_of(std::size_t entry) const {
  const FileList& files = contents_->files();
  const std::uint64_t size = files.content_size(entry);
  if (files.type(entry) != EntryType::File || size == 0) return 0;
  const auto [frame, offset] = contents_->place(entry);
  const std::vector<Frame>& frames = contents_->frames();
  std::size_t number = frame;
  for (std::uint64_t left = size + offset; left > frames[number].plain_size; ++number)
    left -= frames[number].plain_size;
  return frames[number].offset + frames[number].size;
}

std::string_view PackageReader::verified(std::span<const NeededFrame> frames, FrameDecoder& decoder) const {
  std::size_t total = 0;
  for (const NeededFrame& one : frames) total += contents_->frames()[one.frame].size;
  const auto stored = std::as_writable_bytes(decoder.room(total));
  std::vector<std::span<const std::byte>> pieces;
  pieces.reserve(frames.size());
  std::size_t at = 0;
  for (std::size_t i = 0; i < frames.size();) {  // what lies side by side in the file is read together
    const std::uint64_t begin = contents_->frames()[frames[i].frame].offset;
    const std::size_t start = at, first = i;
    do {
      const std::size_t size = contents_->frames()[frames[i].frame].size;
      pieces.push_back(stored.subspan(at, size));
      at += size;
    } while (++i < frames.size() && contents_->frames()[frames[i].frame].offset == begin + (at - start));
    const std::size_t got = file_->read_at(begin, stored.subspan(start, at - start));
    for (std::size_t k = first; k < i && got < at - start; ++k)
      if (const Frame& frame = contents_->frames()[frames[k].frame]; frame.offset + frame.size > begin + got)
        damaged(fmt::format("cut off in the frame at offset {}", frame.offset));
  }
  const std::vector<Digest> digests = sha256_of_each(pieces);
  for (std::size_t i = 0; i < frames.size(); ++i)
    if (const Frame& frame = contents_->frames()[frames[i].frame]; digests[i] != frame.digest)
      damaged(fmt::format("damaged at offset {} (a frame's digest differs)", frame.offset));
  return {reinterpret_cast<const char*>(stored.data()), stored.size()};
}

std::string_view PackageReader::frame(std::size_t number, FrameDecoder& decoder) const {
  const NeededFrame one{number, contents_->frames()[number].plain_size};
  return decoder.decode(verified({&one, 1}, decoder), one.plain, where_);
}

std::string PackageReader::built() const {
  FrameDecoder decoder;
  const Json manifest =
      parse_json(frame(0, decoder).substr(contents_->manifest_offset(), contents_->manifest_size()), where_);
  const auto found = manifest.find("built");
  return found == manifest.end() || !found->is_object() ? "" : canonical(*found);
}

Package PackageReader::manifest() const {
  FrameDecoder decoder;
  return parse_manifest(frame(0, decoder).substr(contents_->manifest_offset(), contents_->manifest_size()), where_);
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
  if (sha256(result) != entry.digest) damaged(fmt::format("the content of {} is not what the table says", entry.path));
  return result;
}

/// Asks for frames, those that lie beside each other together.
void PackageReader::expect(std::span<const NeededFrame> frames) const {
  std::uint64_t start = 0, end = 0;
  for (const NeededFrame& one : frames) {
    const Frame& frame = contents_->frames()[one.frame];
    if (frame.offset != end) {
      if (end > start) file_->expect(start, end - start);
      start = frame.offset;
    }
    end = frame.offset + frame.size;
  }
  if (end > start) file_->expect(start, end - start);
}

void PackageReader::extract(std::span<const std::size_t> wanted, const Sink& sink, FrameDecoder& decoder) const {
  const std::vector<NeededFrame> frames = needed_frames(*contents_, wanted);
  expect(frames);
  const FileList& files = contents_->files();
  const std::size_t ahead = sha256_lanes() > 1 ? kVerifiedTogether : 0;
  std::string_view stored, plain;   // of the frames that follow, verified; of the one before
  std::size_t known = 0, next = 0;  // frames[next] is the first in `stored`, frames[known] the first that is not
  const auto unpack_next = [&] {
    if (next == known) {
      std::size_t size = 0;
      do size += contents_->frames()[frames[known++].frame].size;
      while (known < frames.size() && known - next < kMostTogether &&
             size + contents_->frames()[frames[known].frame].size <= ahead);
      stored = verified(std::span(frames).subspan(next, known - next), decoder);
    }
    const Frame& frame = contents_->frames()[frames[next].frame];
    plain = decoder.decode_start(stored.substr(0, frame.size), frame.plain_size, frames[next].plain, where_);
    stored.remove_prefix(frame.size);
    ++next;
  };
  for (std::size_t i = 0; i < wanted.size(); ++i) {
    sink.begin(i);
    if (files.type(wanted[i]) == EntryType::File) {
      const Contents::Place place = contents_->place(wanted[i]);
      std::uint64_t left = files.content_size(wanted[i]), offset = place.offset;
      for (std::size_t number = place.frame; left > 0; ++number, offset = 0) {
        if (next == 0 || frames[next - 1].frame != number) unpack_next();
        const std::uint64_t piece = std::min(left, contents_->frames()[number].plain_size - offset);
        sink.data(i, plain.substr(offset, piece));
        left -= piece;
      }
    }
    sink.end(i);
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
      if (number == contents_->frames().size()) damaged("the frames end early");
      plain = frame(number++, decoder);
      at = 0;
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
  head.path = ".hambrel/manifest.json";
  head.mode = 0644;
  head.size = contents_->manifest_size();
  expect(tar_header(head), head.path);
  for (std::uint64_t left = contents_->manifest_size(); left > 0;) left -= take(left).size();
  expect(std::string(tar_padding(head.size), '\0'), head.path);
  ByteCount total = 0;
  std::uint64_t files = 0;
  Sha256 running;
  for (std::size_t i = 0; i < contents_->size(); ++i) {
    const Entry entry = contents_->entry(i);
    expect(tar_header(entry), entry.path);
    if (entry.type != EntryType::Directory) ++files;
    if (entry.type != EntryType::File) continue;
    for (std::uint64_t left = entry.size; left > 0;) {
      const std::string_view piece = take(left);
      running.update(piece);
      left -= piece.size();
    }
    if (running.finish() != entry.digest)
      damaged(fmt::format("the content of {} is not what the table says", printable(entry.path)));
    expect(std::string(tar_padding(entry.size), '\0'), entry.path);
    total += entry.size;
  }
  expect(std::string(1024, '\0'), "the end");
  if (total != package.installed_size || files != package.file_count)
    damaged("the manifest does not match the package's files");
  require_named_privileges(contents_->files(), package, where_);
}

}  // namespace hambrel::archive
