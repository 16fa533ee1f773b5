// Distinct values and texts under small numbers, for whoever compiles layers; nobody else includes it.
#pragma once

#include <algorithm>
#include <cstdint>
#include <cstring>
#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/error.h"

namespace hambrel {

/// Numbers for distinct values, by a hash table with open addressing; the values themselves lie with the caller.
class Numbers {
 public:
  /// The number of the value, or `next` after that was entered as its number.
  template <typename Same>
  std::uint32_t enter(std::uint64_t hash, std::uint32_t next, Same same) {
    if (2 * (hashes_.size() + 1) > slots_.size()) grow();
    for (std::size_t at = hash & (slots_.size() - 1);; at = (at + 1) & (slots_.size() - 1)) {
      Slot& slot = slots_[at];
      if (slot.number == kFree) {
        slot = {static_cast<std::uint32_t>(hash >> 32U), next};
        hashes_.push_back(hash);
        numbers_.push_back(next);
        return next;
      }
      if (slot.tag == static_cast<std::uint32_t>(hash >> 32U) && same(slot.number)) return slot.number;
    }
  }

  /// For whoever will ask for many values, and knows their hashes before: memory is fetched ahead.
  void prefetch(std::uint64_t hash) const {
    if (!slots_.empty()) __builtin_prefetch(&slots_[hash & (slots_.size() - 1)]);
  }
  /// The number of the value with this hash, most likely.
  std::optional<std::uint32_t> first_guess(std::uint64_t hash) const {
    if (slots_.empty()) return std::nullopt;
    const Slot& slot = slots_[hash & (slots_.size() - 1)];
    return slot.number == kFree ? std::nullopt : std::optional(slot.number);
  }

 private:
  static constexpr std::uint32_t kFree = UINT32_MAX;
  struct Slot {
    std::uint32_t tag = 0, number = kFree;
  };

  void grow() {
    slots_ = std::vector<Slot>(slots_.empty() ? 1024 : 2 * slots_.size());
    for (std::size_t i = 0; i < hashes_.size(); ++i) {
      const std::uint64_t hash = hashes_[i];
      std::size_t at = hash & (slots_.size() - 1);
      while (slots_[at].number != kFree) at = (at + 1) & (slots_.size() - 1);
      slots_[at] = {static_cast<std::uint32_t>(hash >> 32U), numbers_[i]};
    }
  }

  std::vector<Slot> slots_;
  std::vector<std::uint64_t> hashes_;   // in the order of entry; entries are never taken out
  std::vector<std::uint32_t> numbers_;  // beside them
};

inline std::uint64_t mixed(std::uint64_t x) {  // the finaliser of splitmix64 (Steele, Lea & Flood 2014)
  x ^= x >> 30U;
  x *= 0xbf58476d1ce4e5b9U;
  x ^= x >> 27U;
  x *= 0x94d049bb133111ebU;
  return x ^ (x >> 31U);
}

inline std::uint64_t hash_of(std::string_view text) { return mixed(std::hash<std::string_view>{}(text)); }

/// Places in the text array are 32 bits wide.
inline Error too_much_text() {
  return {ErrorCode::Invalid, "the indexes hold more than 4 GiB of text", {}, "drop or disable a repository"};
}

/// Texts of an image, at most 4 GiB: a text lies behind its size, and the empty one is at place 0.
struct TextPlace {
  static constexpr std::uint32_t kFirst = sizeof(std::uint32_t);  // place of the first text that is not empty

  static std::string_view read(const char* at) {
    std::uint32_t size = 0;
    std::memcpy(&size, at, sizeof size);
    return {at + sizeof size, size};
  }
  static void write(std::string& to, std::string_view text) {
    const auto size = static_cast<std::uint32_t>(text.size());
    to.append(reinterpret_cast<const char*>(&size), sizeof size);
    to.append(text);
  }
  /// Of one more text behind others.
  static std::uint32_t end_of(std::size_t size, std::string_view text) {
    if (size + text.size() + sizeof(std::uint32_t) > UINT32_MAX) throw too_much_text();
    return static_cast<std::uint32_t>(size + text.size() + sizeof(std::uint32_t));
  }
};

/// Long texts, which hardly ever recur: in pieces that never move.
class TextPile {
 public:
  std::uint32_t add(std::string_view text) {
    if (text.empty()) return 0;
    const std::uint32_t place = size_;
    size_ = TextPlace::end_of(size_, text);
    if (const std::string& last = pieces_.back().bytes; last.capacity() - last.size() < size_ - place) {
      pieces_.push_back({place, {}});
      pieces_.back().bytes.reserve(std::max<std::size_t>(kPiece, size_ - place));
    }
    TextPlace::write(pieces_.back().bytes, text);
    return place;
  }
  std::string_view at(std::uint32_t place) const {
    const auto behind = std::upper_bound(pieces_.begin(), pieces_.end(), place,
                                         [](std::uint32_t asked, const Piece& one) { return asked < one.start; });
    const Piece& piece = *std::prev(behind);
    return TextPlace::read(piece.bytes.data() + (place - piece.start));
  }
  std::uint32_t size() const { return size_; }
  /// Calls take(bytes) for each piece and keeps none.
  template <typename Take>
  void hand_over(Take take) {
    for (Piece& one : std::exchange(pieces_, {})) take(std::move(one.bytes));
  }

 private:
  static constexpr std::size_t kPiece = 1 << 20;  // bytes
  struct Piece {
    std::uint32_t start;
    std::string bytes;
  };
  std::vector<Piece> pieces_{{0, std::string(TextPlace::kFirst, '\0')}};
  std::uint32_t size_ = TextPlace::kFirst;
};

/// Texts of which each is there once.
class Texts {
 public:
  std::uint32_t enter(std::string_view text) {
    if (text.empty()) return 0;
    const auto next = static_cast<std::uint32_t>(bytes_.size());
    const std::uint32_t number =
        numbers_.enter(hash_of(text), next, [&](std::uint32_t other) { return at(other) == text; });
    if (number != next) return number;
    TextPlace::end_of(bytes_.size(), text);
    TextPlace::write(bytes_, text);
    return number;
  }
  std::string_view at(std::uint32_t id) const { return TextPlace::read(bytes_.data() + id); }
  void prefetch(std::uint32_t id) const { __builtin_prefetch(bytes_.data() + id); }
  std::uint32_t size() const { return static_cast<std::uint32_t>(bytes_.size()); }
  std::string take() { return std::move(bytes_); }
  /// No text is entered any more.
  void end_entering() { numbers_ = {}; }

 private:
  std::string bytes_ = std::string(TextPlace::kFirst, '\0');
  Numbers numbers_;
};

}  // namespace hambrel
