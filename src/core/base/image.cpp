#include "base/image.h"

#define XXH_INLINE_ALL
#include <xxhash.h>

namespace hambrel {

namespace {

constexpr std::uint64_t kMagic = 0x31474D4942524D48;  // "HMRBIMG1"
constexpr std::uint32_t kLayout = 1;
constexpr std::size_t kAlign = 16;

struct Header {
  std::uint64_t magic, head_sum, total;
  std::uint32_t layout, sections;
  std::uint64_t key_size, arrays;  // arrays: where they begin, a multiple of the block size
};
static_assert(std::has_unique_object_representations_v<Header>);

struct Entry {
  std::uint64_t section, start, size;
};

std::size_t rounded(std::size_t size, std::size_t unit) { return (size + unit - 1) / unit * unit; }
std::size_t blocks_of(std::size_t arrays, std::size_t total) {
  return (total - arrays + Image::kBlock - 1) / Image::kBlock;
}

/// Over the head with its own place for the sum left out.
std::uint64_t head_sum(const std::byte* head, std::size_t size) {
  return XXH3_64bits(head + offsetof(Header, total), size - offsetof(Header, total)) ^ kMagic;
}

}  // namespace

DamagedImage::DamagedImage()
    : Error(ErrorCode::Untrusted, "a compiled index is damaged", {}, "run `hambrel refresh`: it makes a new one") {}

std::optional<Image> Image::open(std::shared_ptr<const Bytes> bytes) {
  const auto data = bytes->data();
  Header header{};
  if (data.size() < sizeof header || reinterpret_cast<std::uintptr_t>(data.data()) % kAlign != 0) return std::nullopt;
  std::memcpy(&header, data.data(), sizeof header);
  if (header.magic != kMagic || header.layout != kLayout || header.total != data.size() ||
      header.arrays > header.total || header.arrays % kBlock != 0 || header.sections > 1000 ||
      header.key_size > header.arrays)
    return std::nullopt;
  const std::size_t blocks = blocks_of(header.arrays, header.total);
  const std::size_t head = sizeof header + header.sections * sizeof(Entry) + blocks * sizeof(std::uint64_t) +
                           static_cast<std::size_t>(header.key_size);
  if (head > header.arrays || head_sum(data.data(), head) != header.head_sum) return std::nullopt;
  Image image;
  image.bytes_ = std::move(bytes);
  image.data_ = data;
  image.stamp_ = header.head_sum;
  image.sections_ = header.sections;
  image.table_ = sizeof header;
  image.sums_ = sizeof header + header.sections * sizeof(Entry);
  image.arrays_ = header.arrays;
  image.key_ = {reinterpret_cast<const char*>(data.data()) + head - header.key_size,
                static_cast<std::size_t>(header.key_size)};
  image.whole_ = std::make_shared<std::vector<std::uint8_t>>(header.arrays / kBlock + blocks, std::uint8_t{0});
  for (std::size_t block = 0; block < header.arrays / kBlock; ++block) (*image.whole_)[block] = 1;
  return image;
}

std::pair<std::size_t, std::size_t> Image::place(std::uint32_t section) const {
  for (std::size_t i = 0; i < sections_; ++i) {
    Entry entry{};
    std::memcpy(&entry, data_.data() + table_ + i * sizeof entry, sizeof entry);
    if (entry.section != section) continue;
    if (entry.start < arrays_ || entry.start > data_.size() || entry.size > data_.size() - entry.start)
      throw DamagedImage();
    return {entry.start, entry.size};
  }
  return {0, 0};
}

void Image::check(std::size_t block) const {
  const std::size_t start = block * kBlock, size = std::min(kBlock, data_.size() - start);
  std::uint64_t sum = 0;
  std::memcpy(&sum, data_.data() + sums_ + (start - arrays_) / kBlock * sizeof sum, sizeof sum);
  if (XXH3_64bits(data_.data() + start, size) != sum) throw DamagedImage();
  (*whole_)[block] = 1;
}

void ImageWriter::add_bytes(std::uint32_t section, std::span<const std::byte> data) {
  arrays_.resize(rounded(arrays_.size(), kAlign));
  parts_.push_back({section, arrays_.size(), data.size()});
  arrays_.append(reinterpret_cast<const char*>(data.data()), data.size());
}

std::string ImageWriter::finish(std::string_view key) {
  const std::size_t blocks = (arrays_.size() + Image::kBlock - 1) / Image::kBlock;
  const std::size_t head = sizeof(Header) + parts_.size() * sizeof(Entry) + blocks * sizeof(std::uint64_t) + key.size();
  Header header{};
  header.magic = kMagic, header.layout = kLayout;
  header.arrays = rounded(head, Image::kBlock);
  header.total = header.arrays + arrays_.size();
  header.sections = static_cast<std::uint32_t>(parts_.size());
  header.key_size = key.size();
  std::string image(sizeof header, '\0');
  image.reserve(header.total);
  for (const Part& part : parts_) {
    const Entry entry{part.section, header.arrays + part.start, part.size};
    image.append(reinterpret_cast<const char*>(&entry), sizeof entry);
  }
  for (std::size_t start = 0; start < arrays_.size(); start += Image::kBlock) {
    const std::uint64_t sum = XXH3_64bits(arrays_.data() + start, std::min(Image::kBlock, arrays_.size() - start));
    image.append(reinterpret_cast<const char*>(&sum), sizeof sum);
  }
  image.append(key);
  std::memcpy(image.data(), &header, sizeof header);
  header.head_sum = head_sum(reinterpret_cast<const std::byte*>(image.data()), head);
  std::memcpy(image.data(), &header, sizeof header);
  image.resize(header.arrays);
  image.append(arrays_);
  arrays_.clear(), parts_.clear();
  return image;
}

}  // namespace hambrel
