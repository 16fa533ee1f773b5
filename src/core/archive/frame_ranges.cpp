#include "archive/frame_ranges.h"

#include <algorithm>

namespace hambrel::archive {

std::vector<NeededFrame> needed_frames(const Contents& contents, std::span<const std::size_t> wanted) {
  std::vector<NeededFrame> frames;
  for (const std::size_t i : wanted) {
    if (contents.files().type(i) != EntryType::File) continue;
    const Contents::Place place = contents.place(i);
    std::uint64_t left = contents.files().content_size(i), offset = place.offset;
    for (std::size_t number = place.frame; left > 0; ++number, offset = 0) {
      const std::uint64_t piece = std::min(left, contents.frames()[number].plain_size - offset);
      if (frames.empty() || frames.back().frame != number) frames.push_back({number, 0});
      frames.back().plain = offset + piece;
      left -= piece;
    }
  }
  return frames;
}

std::vector<FrameRange> ranges_of(const Contents& contents, std::span<const NeededFrame> needed) {
  constexpr std::uint64_t kOfARequest = 4 << 10;  // bytes that a request costs with its answer, about
  constexpr std::size_t kMostRanges = 256;
  const auto joined = [&](std::uint64_t gap) {
    std::vector<FrameRange> ranges;
    for (const NeededFrame& one : needed) {
      const Frame& frame = contents.frames()[one.frame];
      if (ranges.empty() || frame.offset - (ranges.back().offset + ranges.back().size) > gap)
        ranges.push_back({one.frame, one.frame, frame.offset, 0});
      ranges.back().last = one.frame + 1;
      ranges.back().size = frame.offset + frame.size - ranges.back().offset;
    }
    return ranges;
  };
  std::uint64_t gap = kOfARequest;
  std::vector<FrameRange> ranges = joined(gap);
  while (ranges.size() > kMostRanges) ranges = joined(gap *= 2);
  return ranges;
}

std::uint64_t size_of(std::span<const FrameRange> ranges) {
  std::uint64_t size = 0;
  for (const FrameRange& one : ranges) size += one.size;
  return size;
}

}  // namespace hambrel::archive
