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
std::uint64_t head_sum(std::span<const std::byte> image, std::size_t arrays_end) {
  constexpr std::size_t kFrom = offsetof(Header, total);
  return checksum(image.data() + kFrom, kHead - kFrom) * 31 +
         checksum(image.data() + arrays_end, image.size() - arrays_end);
}

}  // namespace

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
  if (sums > rest || header.key_size != rest - sums || head_sum(data, header.arrays_end) != header.head_sum)
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

ImageWriter::ImageWriter() : image_(kHead, '\0') {}

void ImageWriter::add_bytes(std::uint32_t section, std::span<const std::byte> data) {
  if (parts_.size() == kMostSections) throw Error(ErrorCode::Internal, "an image has too many sections");
  image_.resize(rounded(image_.size(), kAlign));
  parts_.push_back({section, image_.size(), data.size()});
  image_.append(reinterpret_cast<const char*>(data.data()), data.size());
}

void ImageWriter::extend(std::span<const std::byte> data) {
  parts_.back().size += data.size();
  image_.append(reinterpret_cast<const char*>(data.data()), data.size());
}

std::string ImageWriter::finish(std::string_view key) {
  Header header{};
  header.magic = kMagic;
  header.layout = kLayout;
  header.arrays_end = image_.size();
  header.key_size = key.size();
  header.sections = static_cast<std::uint32_t>(parts_.size());
  for (std::size_t i = 0; i < parts_.size(); ++i) {
    const Entry entry{parts_[i].section, parts_[i].start, parts_[i].size};
    std::memcpy(image_.data() + sizeof header + i * sizeof entry, &entry, sizeof entry);
  }
  for (std::size_t start = kHead; start < header.arrays_end; start += Image::kBlock) {
    const std::uint64_t sum = checksum(reinterpret_cast<const std::byte*>(image_.data()) + start,
                                       std::min(Image::kBlock, header.arrays_end - start));
    image_.append(reinterpret_cast<const char*>(&sum), sizeof sum);
  }
  image_.append(key);
  header.total = image_.size();
  std::memcpy(image_.data(), &header, sizeof header);
  header.head_sum = head_sum(std::as_bytes(std::span(image_)), header.arrays_end);
  std::memcpy(image_.data(), &header, sizeof header);
  parts_.clear();
  return std::exchange(image_, std::string(kHead, '\0'));
}

}  // namespace hambrel
