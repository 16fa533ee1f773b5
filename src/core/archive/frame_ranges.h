// Which frames of a package file hold the content of some of its entries, and which ranges of the file these are.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "archive/contents.h"

namespace hambrel::archive {

/// A frame of which the first `plain` bytes are needed.
struct NeededFrame {
  std::size_t frame;
  std::uint64_t plain;
};
/// `wanted`: numbers of entries in the table, ascending. What has no content needs none.
std::vector<NeededFrame> needed_frames(const Contents& contents, std::span<const std::size_t> wanted);

/// Frames that lie beside each other: what is fetched in one go.
struct FrameRange {
  std::size_t first, last;     // numbers of frames; the last one is not of them
  std::uint64_t offset, size;  // bytes in the file
  bool operator==(const FrameRange&) const = default;
};
/// Ranges that hold what is needed, ascending. What lies between two of them comes along where it is less than another
/// request would cost, or where there would be too many of them.
std::vector<FrameRange> ranges_of(const Contents& contents, std::span<const NeededFrame> needed);

std::uint64_t size_of(std::span<const FrameRange> ranges);

}  // namespace hambrel::archive
