#include "base/checksum.h"

#define XXH_INLINE_ALL
#include <xxhash.h>

namespace hambrel {

std::uint64_t checksum_avx2(const std::byte* data, std::size_t size);

std::uint64_t checksum(const std::byte* data, std::size_t size) {
#if defined(__x86_64__)
  static const bool wide = __builtin_cpu_supports("avx2") != 0;
  if (wide) return checksum_avx2(data, size);
#endif
  return XXH3_64bits(data, size);
}

}  // namespace hambrel
