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

class Texts {
 public:
  Texts() { bytes_.assign(sizeof(std::uint32_t), '\0'); }  // place 0: the empty text

  std::uint32_t enter(std::string_view text) {
    if (text.empty()) return 0;
    const auto next = static_cast<std::uint32_t>(bytes_.size());
    const std::uint32_t number =
        numbers_.enter(hash_of(text), next, [&](std::uint32_t other) { return at(other) == text; });
    if (number == next) append(text);
    return number;
  }
  /// Without looking for the same text: for long ones, which hardly ever recur.
  std::uint32_t append(std::string_view text) {
    if (text.empty()) return 0;
    if (bytes_.size() + text.size() + sizeof(std::uint32_t) > UINT32_MAX) throw too_much_text();
    const auto size = static_cast<std::uint32_t>(text.size());
    const auto place = static_cast<std::uint32_t>(bytes_.size());
    bytes_.append(reinterpret_cast<const char*>(&size), sizeof size);
    bytes_.append(text);
    return place;
  }
  std::string_view at(std::uint32_t id) const {
    std::uint32_t size = 0;
    std::memcpy(&size, bytes_.data() + id, sizeof size);
    return std::string_view(bytes_).substr(id + sizeof size, size);
  }
  void prefetch(std::uint32_t id) const { __builtin_prefetch(bytes_.data() + id); }
  std::uint32_t size() const { return static_cast<std::uint32_t>(bytes_.size()); }
  std::string take() { return std::move(bytes_); }

 private:
  std::string bytes_;
  Numbers numbers_;
};

}  // namespace hambrel
