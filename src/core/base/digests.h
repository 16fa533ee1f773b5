// SHA-256 (FIPS 180-4) of many messages at once: a frame, a file, each of its own digest.
//
// SHA-256 of one message is a chain that leaves most of a processor idle. Where it has wide vectors (AVX2, AVX-512) and
// no instructions for SHA-256 itself, 8 or 16 messages go through it side by side, each in a lane: three to four times
// as many bytes a second. Elsewhere, and for what is left when the lanes run empty, one after the other.
//
// Invariant: the digests are those of sha256(), whatever the processor, the number of messages and their sizes.
#pragma once

#include <cstddef>
#include <cstdint>
#include <functional>
#include <span>
#include <vector>

#include "base/digest.h"

namespace hambrel {

/// The digest of each message, in their order. Messages of several KiB each, in dozens, are what it is good at.
std::vector<Digest> sha256_of_each(std::span<const std::span<const std::byte>> messages);
/// The same in so many lanes, or as many as the processor has; for tests.
std::vector<Digest> sha256_of_each(std::span<const std::span<const std::byte>> messages, std::size_t lanes);

/// A message that is read while it is digested, 64 KiB at a time.
struct MessageToRead {
  std::uint64_t size = 0;  // bytes
  /// Fills all of it with the bytes from there on. What it throws ends all of it.
  std::function<void(std::uint64_t offset, std::span<std::byte> into)> read;
};
std::vector<Digest> sha256_of_each(std::span<const MessageToRead> messages);
std::vector<Digest> sha256_of_each(std::span<const MessageToRead> messages, std::size_t lanes);

/// Messages that are best taken side by side here: 16, 8 or 1. With 1 nothing is to be had from batches.
std::size_t sha256_lanes();

}  // namespace hambrel
