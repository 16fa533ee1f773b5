// One zstd frame (RFC 8878) to and from memory.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <string_view>

namespace hambrel::archive {

/// What so many compressed bytes may unpack to where nobody has said how much it is: our own texts shrink to a
/// fortieth at most, and nothing may make a gigabyte out of a few kilobytes.
inline constexpr std::uint64_t most_plain(std::uint64_t stored) { return (16ULL << 20) + 100 * stored; }

std::string compress_frame(std::string_view plain, int level);
/// Exactly `plain_size` bytes must come out; throws Error{Untrusted} otherwise. Never allocates more than plain_size.
std::string decompress_frame(std::string_view stored, std::uint64_t plain_size, const std::string& where);
/// The same for many frames, one after the other: memory is taken once and not cleared.
class FrameDecoder {
 public:
  FrameDecoder();
  ~FrameDecoder();
  /// Room for the compressed bytes of the next frames.
  std::span<char> room(std::size_t size) { return stored_.of(size); }
  /// The plain bytes of a frame; they stand until the next call.
  std::string_view decode(std::string_view stored, std::uint64_t plain_size, const std::string& where);
  /// The same of one that states its own size, up to `limit` bytes.
  std::string_view decode_sized(std::string_view stored, std::uint64_t limit, const std::string& where);
  /// The first `needed` of them at least, as long as they are not the greater part: what follows is not unpacked.
  std::string_view decode_start(std::string_view stored, std::uint64_t plain_size, std::uint64_t needed,
                                const std::string& where);

 private:
  struct Buffer {
    std::unique_ptr<char[]> bytes;
    std::size_t capacity = 0;
    std::span<char> of(std::size_t wanted);
  };
  struct Context;
  std::unique_ptr<Context> context_;
  Buffer stored_, plain_;
};
/// Hands the plain text of one or more frames to `sink` in pieces, holding no more than a piece; at most `limit` bytes.
void decompress_in_pieces(std::string_view stored, std::uint64_t limit, const std::string& where,
                          const std::function<void(std::string_view)>& sink);

}  // namespace hambrel::archive
