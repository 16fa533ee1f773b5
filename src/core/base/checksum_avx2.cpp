// Compiled for processors with AVX2 (src/CMakeLists.txt); called on those only.
#include "base/checksum.h"

#if defined(__x86_64__)
#define XXH_INLINE_ALL
#include <xxhash.h>

namespace hambrel {

std::uint64_t checksum_avx2(const std::byte* data, std::size_t size);
std::uint64_t checksum_avx2(const std::byte* data, std::size_t size) { return XXH3_64bits(data, size); }

}  // namespace hambrel
#endif
