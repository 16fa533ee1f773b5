// Numbers in seven bits a byte, the lowest first (LEB128, as in DWARF 5, section 7.6).
#pragma once

#include <cstdint>
#include <string>

namespace hambrel {

inline void put_leb128(std::string& to, std::uint64_t value) {
  for (; value >= 0x80; value >>= 7U) to += static_cast<char>(static_cast<unsigned char>(value | 0x80U));
  to += static_cast<char>(static_cast<unsigned char>(value));
}

}  // namespace hambrel
