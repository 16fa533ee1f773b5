// XXH3 (64 bits, Y. Collet) by the widest vectors that the processor has; the sum is the same with all of them.
#pragma once

#include <cstddef>
#include <cstdint>

namespace hambrel {

std::uint64_t checksum(const std::byte* data, std::size_t size);

}  // namespace hambrel
