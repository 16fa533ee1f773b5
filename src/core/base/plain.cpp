// Asked of every byte that is printed: loops without a way out of them, which the compiler does many bytes at a time.
#include "base/text.h"

namespace hambrel {

namespace {

constexpr unsigned char kFirst = ' ', kCount = '~' - ' ';

}  // namespace

bool is_plain(std::string_view text) {
  unsigned char odd = 0;
  for (const char c : text) odd |= static_cast<unsigned char>(c - kFirst) > kCount ? 1 : 0;
  return odd == 0;
}

bool are_plain_lines(std::string_view text) {
  unsigned char odd = 0;
  for (const char c : text) odd |= (static_cast<unsigned char>(c - kFirst) > kCount ? 1 : 0) & (c != '\n' ? 1 : 0);
  return odd == 0;
}

}  // namespace hambrel
