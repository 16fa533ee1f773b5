#include "base/image.h"

#include <algorithm>
#include <utility>

#include "base/checksum.h"

namespace hambrel {

namespace {

constexpr std::uint64_t kMagic = 0x31474D4942524D48;  // "HMRBIMG1"
constexpr std::uint32_t kLayout = 2;
constexpr std::size_t kAlign = 16;

constexpr std::size_t kHead = 4096;  // bytes
static_assert(kHead % Image::kBlock == 0);

struct Header {
  std::uint64_t magic, head_sum, total, arrays_end, key_size;
  std::uint32_t layout, sections;
};
static_assert(std::has_unique_object_representations_v<Header>);

struct Entry {
  std::uint64_t section, start, size;
};
constexpr std::size_t kMostSections = (kHead - sizeof(Header)) / sizeof(Entry);

std::size_t rounded(std::size_t size, std::size_t unit) { return (size + unit - 1) / unit * unit; }
std::size_t blocks_of(std::size_t arrays_end) { return (rounded(arrays_end, Image::kBlock) - kHead) / Image::kBlock; }

/// Over the head, with its own place for the sum left out, and what comes after the arrays.
std::uint64_t head_sum(std::span<const std::byte> head, std::span<const std::byte> rest) {
  constexpr std::size_t kFrom = offsetof(Header, total);
  return checksum(head.data() + kFrom, kHead - kFrom) * 31 + checksum(rest.data(), rest.size());
}

/// The sums of the blocks of what comes in pieces.
class BlockSums {
 public:
  void add(std::span<const std::byte> piece) {
    while (!piece.empty()) {
      const std::size_t size = std::min(Image::kBlock - filled_, piece.size());
      if (size == Image::kBlock) {
        put(piece.data(), size);
      } else {
        std::memcpy(begun_ + filled_, piece.data(), size);
        filled_ += size;
        if (filled_ == Image::kBlock) put_begun();
      }
      piece = piece.subspan(size);
    }
  }
  std::string finish() {
    if (filled_ > 0) put_begun();
    return std::move(sums_);
  }

 private:
  void put(const std::byte* data, std::size_t size) {
    const std::uint64_t sum = checksum(data, size);
    sums_.append(reinterpret_cast<const char*>(&sum), sizeof sum);
  }
  void put_begun() {
    put(begun_, filled_);
    filled_ = 0;
  }

  std::byte begun_[Image::kBlock];
  std::size_t filled_ = 0;
  std::string sums_;
};

}  // namespace

void refuse_damaged() { throw DamagedImage(); }

DamagedImage::DamagedImage()
    : Error(ErrorCode::Untrusted, "a compiled index is damaged", {}, "run `hambrel refresh` to make a new one") {}

std::optional<Image> Image::open(std::shared_ptr<const Bytes> bytes) {
  const auto data = bytes->data();
  Header header{};
  if (data.size() < kHead || reinterpret_cast<std::uintptr_t>(data.data()) % kAlign != 0) return std::nullopt;
  std::memcpy(&header, data.data(), sizeof header);
  if (header.magic != kMagic || header.layout != kLayout || header.total != data.size() ||
      header.sections > kMostSections || header.arrays_end < kHead || header.arrays_end > data.size())
    return std::nullopt;
  const std::size_t sums = blocks_of(header.arrays_end) * sizeof(std::uint64_t), rest = data.size() - header.arrays_end;
  if (sums > rest || header.key_size != rest - sums ||
      head_sum(data, data.subspan(header.arrays_end)) != header.head_sum)
    return std::nullopt;
  Image image;
  image.bytes_ = std::move(bytes);
  image.data_ = data;
  image.sections_ = header.sections;
  image.end_ = header.arrays_end;
  image.stamp_ = header.head_sum;
  image.key_ = {reinterpret_cast<const char*>(data.data()) + header.arrays_end + sums,
                static_cast<std::size_t>(header.key_size)};
  image.whole_ = std::make_shared<std::uint8_t[]>(rounded(header.arrays_end, kBlock) / kBlock);
  return image;
}

std::pair<std::size_t, std::size_t> Image::place(std::uint32_t section) const {
  for (std::size_t i = 0; i < sections_; ++i) {
    Entry entry{};
    std::memcpy(&entry, data_.data() + sizeof(Header) + i * sizeof entry, sizeof entry);
    if (entry.section != section) continue;
    if (entry.start < kHead || entry.start > end_ || entry.size > end_ - entry.start) throw DamagedImage();
    return {entry.start, entry.size};
  }
  return {0, 0};
}

void Image::check(std::size_t block) const {
  const std::size_t start = block * kBlock, size = std::min(kBlock, end_ - start);
  std::uint64_t sum = 0;
  std::memcpy(&sum, data_.data() + end_ + (block - kHead / kBlock) * sizeof sum, sizeof sum);
  if (checksum(data_.data() + start, size) != sum) throw DamagedImage();
  std::atomic_ref(whole_[block]).store(std::uint8_t{1}, std::memory_order_relaxed);
}

std::vector<std::span<const std::byte>> ImagePieces::bytes() const {
  std::vector<std::span<const std::byte>> all;
  for (const Piece& one : pieces_) all.push_back(one.bytes);
  return all;
}

std::string ImagePieces::joined() && {
  std::size_t size = 0;
  for (const Piece& one : pieces_) size += one.bytes.size();
  std::string all;
  all.reserve(size);
  for (Piece& one : pieces_) {
    all.append(reinterpret_cast<const char*>(one.bytes.data()), one.bytes.size());
    one = {};
  }
  return all;
}

void ImageWriter::add_bytes(std::uint32_t section, ImagePieces::Piece piece) {
  static constexpr std::byte kZeros[kAlign]{};
  if (parts_.empty() || parts_.back().section != section) {
    if (parts_.size() == kMostSections) throw Error(ErrorCode::Internal, "an image has too many sections");
    const std::size_t start = rounded(end_, kAlign);
    if (start > end_) pieces_.push_back({nullptr, std::span(kZeros).first(start - end_)});
    parts_.push_back({section, start, 0});
    end_ = start;
  }
  parts_.back().size += piece.bytes.size();
  end_ += piece.bytes.size();
  pieces_.push_back(std::move(piece));
}

ImagePieces ImageWriter::finish(std::string_view key) {
  BlockSums sums;
  for (const ImagePieces::Piece& one : pieces_) sums.add(one.bytes);
  const auto rest = std::make_shared<const std::string>(sums.finish().append(key));
  Header header{};
  header.magic = kMagic;
  header.layout = kLayout;
  header.arrays_end = kHead + end_;
  header.total = header.arrays_end + rest->size();
  header.key_size = key.size();
  header.sections = static_cast<std::uint32_t>(parts_.size());
  const auto head = std::make_shared<std::string>(kHead, '\0');
  std::memcpy(head->data(), &header, sizeof header);
  for (std::size_t i = 0; i < parts_.size(); ++i) {
    const Entry entry{parts_[i].section, kHead + parts_[i].start, parts_[i].size};
    std::memcpy(head->data() + sizeof header + i * sizeof entry, &entry, sizeof entry);
  }
  header.head_sum = head_sum(std::as_bytes(std::span(*head)), std::as_bytes(std::span(*rest)));
  std::memcpy(head->data(), &header, sizeof header);
  pieces_.insert(pieces_.begin(), {head, std::as_bytes(std::span(*head))});
  pieces_.push_back({rest, std::as_bytes(std::span(*rest))});
  parts_.clear();
  end_ = 0;
  return ImagePieces(std::exchange(pieces_, {}));
}

}  // namespace hambrel
