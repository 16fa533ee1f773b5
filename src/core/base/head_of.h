// Texts by their first bytes.
#pragma once

#include <cstdint>
#include <string_view>

namespace hambrel {

inline constexpr std::size_t kHeadOfText = 8;  // bytes

/// The first bytes of a text as a number that is ordered as they are: most comparisons of texts end with it.
inline std::uint64_t head_of(std::string_view text) {
  const auto byte = [&](std::size_t i) {
    return static_cast<std::uint64_t>(static_cast<std::uint8_t>(text[i])) << (56 - 8 * i);
  };
  std::uint64_t head = 0;
  if (text.size() >= kHeadOfText)
    for (std::size_t i = 0; i < kHeadOfText; ++i) head |= byte(i);
  else
    for (std::size_t i = 0; i < text.size(); ++i) head |= byte(i);
  return head;
}

}  // namespace hambrel
