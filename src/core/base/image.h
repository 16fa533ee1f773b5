// An image: a file of flat arrays that is read where it lies, mapped or in memory, without being parsed.
//
// Layout, little-endian: head of 4 KiB with the section table | arrays, each at a multiple of 16 bytes | sums | key.
// The sums are one XXH3 (64 bits, Y. Collet) for each block of 1 KiB of the arrays; the head holds one over itself, the
// sums and the key. Opening checks only those, so a huge image opens at once; each block is checked when it is first
// touched. Invariant: no byte of an array is handed out before its block was found whole. An image that is damaged ends
// in DamagedImage, never in a wrong answer. It is a cache: whoever meets that builds a new one. Several threads may
// read one image.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"

namespace hambrel {

/// Bytes that stay where they are: a mapping or a string.
class Bytes {
 public:
  virtual ~Bytes() = default;
  virtual std::span<const std::byte> data() const = 0;
};

class OwnedBytes final : public Bytes {
 public:
  explicit OwnedBytes(std::string text) : text_(std::move(text)) {}
  std::span<const std::byte> data() const override { return std::as_bytes(std::span(text_)); }

 private:
  std::string text_;
};

struct DamagedImage : Error {
  DamagedImage();
};

/// Throws it. Out of line, as is all that seldom happens here: what reads a number is copied into every loop that does.
[[noreturn, gnu::cold]] void refuse_damaged();

class Image {
 public:
  static constexpr std::size_t kBlock = 1024;  // bytes

  /// Nothing if the bytes are not a whole image of this layout version, or the head is damaged.
  static std::optional<Image> open(std::shared_ptr<const Bytes> bytes);

  /// What the image was made from, as its maker wrote it down.
  std::string_view key() const { return key_; }
  /// Tells images apart: over all that they hold.
  std::uint64_t stamp() const { return stamp_; }
  /// Start and size in bytes of an array, {0, 0} for one that is not there. Element type is the caller's knowledge.
  std::pair<std::size_t, std::size_t> place(std::uint32_t section) const;
  /// Bytes [offset, offset + size) counted from the start of the image, after their blocks were checked.
  const std::byte* at(std::size_t offset, std::size_t size) const {
    if (offset > end_ || size > end_ - offset) refuse_damaged();
    if (size != 0)
      for (std::size_t block = offset / kBlock, last = (offset + size - 1) / kBlock; block <= last; ++block)
        if (std::atomic_ref(whole_[block]).load(std::memory_order_relaxed) == 0) check(block);
    return data_.data() + offset;
  }

 private:
  Image() = default;
  void check(std::size_t block) const;

  std::shared_ptr<const Bytes> bytes_;
  std::span<const std::byte> data_;
  std::string_view key_;
  std::uint64_t stamp_ = 0;
  std::size_t sections_ = 0, end_ = 0;     // of the arrays
  std::shared_ptr<std::uint8_t[]> whole_;  // by block: was found whole
};

/// One array of an image.
template <typename Value>
class Array {
 public:
  static_assert(std::is_trivially_copyable_v<Value>);
  Array() = default;
  Array(const Image& image, std::uint32_t section) : image_(&image) {
    const auto [start, size] = image.place(section);
    start_ = start;
    count_ = size / sizeof(Value);
  }
  std::size_t size() const { return count_; }
  const Value& operator[](std::size_t i) const {
    if (i >= count_) refuse_damaged();  // only a damaged image points outside of itself
    if (const Value* const all = checked()) return all[i];
    return *check(i, 1);
  }
  std::span<const Value> slice(std::size_t first, std::size_t count) const {
    if (first > count_ || count > count_ - first) refuse_damaged();
    if (count == 0) return {};
    if (const Value* const all = checked()) return {all + first, count};
    return {check(first, count), count};
  }
  std::span<const Value> all() const { return slice(0, count_); }
  /// Checks all of it now, so that nothing is checked any more when it is read. For whoever will read most of it.
  void check_all() const {
    if (count_ != 0) std::atomic_ref(checked_).store(all().data(), std::memory_order_relaxed);
  }

 private:
  const Value* checked() const { return std::atomic_ref(checked_).load(std::memory_order_relaxed); }
  [[gnu::noinline]] const Value* check(std::size_t first, std::size_t count) const {
    return reinterpret_cast<const Value*>(image_->at(start_ + first * sizeof(Value), count * sizeof(Value)));
  }

  const Image* image_ = nullptr;
  mutable const Value* checked_ = nullptr;  // the first of them, once all were found whole
  std::size_t start_ = 0, count_ = 0;
};

/// A whole image in pieces that lie where they were made, one after the other.
class ImagePieces {
 public:
  struct Piece {
    std::shared_ptr<const void> owner;  // of the bytes; none where they stay anyway
    std::span<const std::byte> bytes;
  };
  explicit ImagePieces(std::vector<Piece> pieces) : pieces_(std::move(pieces)) {}
  std::vector<std::span<const std::byte>> bytes() const;
  /// In one; each piece is given up as soon as it is copied.
  std::string joined() &&;

 private:
  std::vector<Piece> pieces_;
};

class ImageWriter {
 public:
  /// An array, which the image takes over.
  template <typename Container>
  void add(std::uint32_t section, Container values) {
    using Value = typename Container::value_type;
    static_assert(std::is_trivially_copyable_v<Value> && std::has_unique_object_representations_v<Value>,
                  "padding would make images differ from run to run");
    const auto owner = std::make_shared<const Container>(std::move(values));
    add_bytes(section, {owner, std::as_bytes(std::span(*owner))});
  }
  /// More of the array that was added last, if it is of this section.
  void add_bytes(std::uint32_t section, ImagePieces::Piece piece);
  /// The whole image. `key` tells what it was made from.
  ImagePieces finish(std::string_view key);

 private:
  struct Part {
    std::uint32_t section;
    std::size_t start, size;
  };
  std::vector<Part> parts_;
  std::vector<ImagePieces::Piece> pieces_;
  std::size_t end_ = 0;  // bytes of the pieces
};

}  // namespace hambrel
