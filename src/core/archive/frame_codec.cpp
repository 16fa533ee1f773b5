#include "archive/frame_codec.h"

#include <fmt/format.h>
#include <zstd.h>

#include <memory>

#include "base/error.h"

namespace hambrel::archive {

std::string compress_frame(std::string_view plain, int level) {
  std::string stored(ZSTD_compressBound(plain.size()), '\0');
  const std::size_t size = ZSTD_compress(stored.data(), stored.size(), plain.data(), plain.size(), level);
  if (ZSTD_isError(size) != 0U) throw Error(ErrorCode::Internal, fmt::format("zstd: {}", ZSTD_getErrorName(size)));
  stored.resize(size);
  return stored;
}

namespace {

void require_whole(std::size_t result, std::uint64_t plain_size, const std::string& where) {
  if (ZSTD_isError(result) != 0U || result != plain_size)
    throw Error(ErrorCode::Untrusted, "a compressed frame is damaged", where, "fetch or copy the file again");
}

}  // namespace

std::string decompress_frame(std::string_view stored, std::uint64_t plain_size, const std::string& where) {
  std::string plain(plain_size, '\0');
  require_whole(ZSTD_decompress(plain.data(), plain.size(), stored.data(), stored.size()), plain_size, where);
  return plain;
}

struct FrameDecoder::Context {
  std::unique_ptr<ZSTD_DCtx, std::size_t (*)(ZSTD_DCtx*)> zstd{ZSTD_createDCtx(), ZSTD_freeDCtx};
};

FrameDecoder::FrameDecoder() : context_(std::make_unique<Context>()) {}
FrameDecoder::~FrameDecoder() = default;

std::span<char> FrameDecoder::Buffer::of(std::size_t wanted) {
  // Growing with every greater frame would leave holes behind; memory that is not touched costs nothing.
  constexpr std::size_t kEnough = 16 << 20;  // bytes
  if (wanted > capacity) {
    capacity = capacity == 0 ? wanted : std::max(wanted, kEnough);
    bytes.reset();
    bytes = std::make_unique_for_overwrite<char[]>(capacity);
  }
  return {bytes.get(), wanted};
}

std::string_view FrameDecoder::decode(std::string_view stored, std::uint64_t plain_size, const std::string& where) {
  const auto plain = plain_.of(plain_size);
  require_whole(ZSTD_decompressDCtx(context_->zstd.get(), plain.data(), plain.size(), stored.data(), stored.size()),
                plain_size, where);
  return {plain.data(), plain.size()};
}

std::string_view FrameDecoder::decode_start(std::string_view stored, std::uint64_t plain_size, std::uint64_t needed,
                                            const std::string& where) {
  if (needed >= plain_size - plain_size / 4) return decode(stored, plain_size, where);
  const auto plain = plain_.of(needed);
  ZSTD_DCtx* const zstd = context_->zstd.get();
  ZSTD_DCtx_reset(zstd, ZSTD_reset_session_only);
  ZSTD_inBuffer in{stored.data(), stored.size(), 0};
  ZSTD_outBuffer out{plain.data(), plain.size(), 0};
  while (out.pos < out.size) {
    const std::size_t before = in.pos + out.pos;
    const std::size_t left = ZSTD_decompressStream(zstd, &out, &in);
    if (ZSTD_isError(left) != 0U || in.pos + out.pos == before || (left == 0 && out.pos < out.size))
      throw Error(ErrorCode::Untrusted, "a compressed frame is damaged", where, "fetch or copy the file again");
  }
  return {plain.data(), plain.size()};
}

std::string_view FrameDecoder::decode_sized(std::string_view stored, std::uint64_t limit, const std::string& where) {
  const unsigned long long size = ZSTD_getFrameContentSize(stored.data(), stored.size());
  if (size == ZSTD_CONTENTSIZE_ERROR || size == ZSTD_CONTENTSIZE_UNKNOWN)
    throw Error(ErrorCode::Untrusted, "not a zstd frame that states its size", where, "fetch or copy the file again");
  if (size > limit)
    throw Error(ErrorCode::Untrusted, fmt::format("would unpack to {} bytes, at most {} are accepted", size, limit),
                where);
  return decode(stored, size, where);
}

void decompress_in_pieces(std::string_view stored, std::uint64_t limit, const std::string& where,
                          const std::function<void(std::string_view)>& sink) {
  const std::unique_ptr<ZSTD_DStream, std::size_t (*)(ZSTD_DStream*)> stream(ZSTD_createDStream(), ZSTD_freeDStream);
  std::string piece(256 * 1024, '\0');
  ZSTD_inBuffer in{stored.data(), stored.size(), 0};
  std::uint64_t total = 0;
  std::size_t left = 1;  // bytes that the frame still asks for; 0: it is complete
  while (in.pos < in.size || left != 0) {
    ZSTD_outBuffer out{piece.data(), piece.size(), 0};
    const std::size_t before = in.pos;
    left = ZSTD_decompressStream(stream.get(), &out, &in);
    if (ZSTD_isError(left) != 0U || (left != 0 && out.pos == 0 && in.pos == before))
      throw Error(ErrorCode::Untrusted, "a compressed file is damaged or cut off", where, "fetch it again");
    total += out.pos;
    if (total > limit)
      throw Error(ErrorCode::Untrusted, fmt::format("unpacks to more than the {} bytes that are accepted", limit),
                  where);
    sink(std::string_view(piece).substr(0, out.pos));
  }
}

}  // namespace hambrel::archive
