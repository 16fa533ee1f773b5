// Asked of every byte that is printed: loops without a way out of them, which the compiler does many bytes at a time.
#include <cstdint>
#include <cstring>

#include "base/text.h"

namespace hambrel {

namespace {

constexpr unsigned char kFirst = ' ', kCount = '~' - ' ';

/// Not 0 if any of eight bytes is no printable ASCII.
std::uint64_t odd_bytes(const char* eight) {
  constexpr std::uint64_t kEach = 0x0101010101010101U;
  std::uint64_t word = 0;
  std::memcpy(&word, eight, sizeof word);
  // a byte below the first borrows, one above '~' carries into its highest bit; those that have it already are no ASCII
  return (word | (word - kEach * kFirst) | (word + kEach)) & (kEach * 0x80U);
}

}  // namespace

bool is_plain(std::string_view text) {
  std::uint64_t odd = 0;
  if (text.size() < sizeof odd) {
    for (const char c : text) odd |= static_cast<unsigned char>(c - kFirst) > kCount ? 1U : 0U;
    return odd == 0;
  }
  const std::size_t last = text.size() - sizeof odd;  // the last eight may have been among those before
  for (std::size_t at = 0; at < last; at += sizeof odd) odd |= odd_bytes(text.data() + at);
  return (odd | odd_bytes(text.data() + last)) == 0;
}

bool are_plain_lines(std::string_view text) {
  unsigned char odd = 0;
  for (const char c : text) odd |= (static_cast<unsigned char>(c - kFirst) > kCount ? 1 : 0) & (c != '\n' ? 1 : 0);
  return odd == 0;
}

}  // namespace hambrel
