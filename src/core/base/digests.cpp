#include "base/digests.h"

#define OPENSSL_SUPPRESS_DEPRECATED
#include <openssl/sha.h>

#include <algorithm>
#include <array>
#include <cstdint>
#include <cstring>
#include <utility>

#if defined(__x86_64__)
#include <cpuid.h>
#endif

namespace hambrel {

namespace {

constexpr std::size_t kPiece = 64 << 10;  // bytes that are read at a time

#if defined(__x86_64__)

constexpr std::size_t kBlock = 64;  // bytes

/// A message on its way: whole blocks of its own, then one or two that hold its end, the mark and its length.
struct Message {
  std::span<const std::byte> bytes;         // what is at hand of the blocks of its own: all, or a piece
  const MessageToRead* source = nullptr;    // where the next piece comes from
  std::vector<std::byte> piece{};           // that was read
  std::size_t number = 0;                   // in the order of the caller
  std::size_t first = 0;                    // the block with which `bytes` begins
  std::size_t at = 0;                       // blocks that are done
  std::size_t own = 0;                      // whole blocks of its own
  std::size_t blocks = 0;                   // with those of the end
  std::array<std::byte, 2 * kBlock> end{};  // FIPS 180-4, 5.1.1
  bool end_is_read = false;                 // its own bytes there, of a message that is read

  Message(std::span<const std::byte> content, std::size_t place) : Message(content.size(), place) {
    bytes = content;
    const std::size_t rest = content.size() % kBlock;
    if (rest > 0) std::memcpy(end.data(), content.data() + own * kBlock, rest);
  }
  Message(const MessageToRead& content, std::size_t place) : Message(content.size, place) { source = &content; }
  const std::byte* block(std::size_t i) const {
    return i < own ? bytes.data() + (i - first) * kBlock : end.data() + (i - own) * kBlock;
  }
  /// Blocks from `at` on that lie one after the other; they are at hand then.
  std::size_t run() {
    if (source != nullptr) read_on();
    return at < own ? std::min(own, first + bytes.size() / kBlock) - at : blocks - at;
  }

 private:
  Message(std::uint64_t size, std::size_t place) : number(place), own(size / kBlock) {
    const std::size_t rest = size % kBlock;
    blocks = own + (rest + 9 <= kBlock ? 1 : 2);
    end[rest] = std::byte{0x80};
    const std::uint64_t bits = size * 8;
    for (std::size_t i = 0; i < 8; ++i) end[(blocks - own) * kBlock - 1 - i] = static_cast<std::byte>(bits >> (8 * i));
  }
  void read_on() {
    if (at < own && at == first + bytes.size() / kBlock) {
      piece.resize(std::min<std::uint64_t>(kPiece, std::uint64_t{own - at} * kBlock));
      source->read(std::uint64_t{at} * kBlock, piece);
      bytes = piece;
      first = at;
    }
    if (const std::size_t rest = source->size % kBlock; at == own && rest > 0 && !end_is_read) {
      source->read(std::uint64_t{own} * kBlock, std::span(end).first(rest));
      end_is_read = true;
    }
  }
};

using State = std::array<std::uint32_t, 8>;

constexpr State kStart = {0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a,
                          0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19};

Digest digest_of(const State& state) {
  Digest digest;
  for (std::size_t i = 0; i < digest.bytes.size(); ++i)
    digest.bytes[i] = static_cast<std::uint8_t>(state[i / 4] >> (24 - 8 * (i % 4)));
  return digest;
}

/// The rest of a message by the ordinary function, which is faster where few are left.
Digest finish_alone(Message& left, const State& state) {
  SHA256_CTX context;
  SHA256_Init(&context);
  std::copy(state.begin(), state.end(), context.h);
  while (left.at < left.blocks) {
    const std::size_t count = left.run();
    SHA256_Update(&context, left.block(left.at), count * kBlock);
    left.at += count;
  }
  State end;
  std::copy(std::begin(context.h), std::end(context.h), end.begin());
  return digest_of(end);
}

constexpr std::array<std::uint32_t, 64> kRound = {
    0x428a2f98, 0x71374491, 0xb5c0fbcf, 0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5,
    0xd807aa98, 0x12835b01, 0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7, 0xc19bf174,
    0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc, 0x2de92c6f, 0x4a7484aa, 0x5cb0a9dc, 0x76f988da,
    0x983e5152, 0xa831c66d, 0xb00327c8, 0xbf597fc7, 0xc6e00bf3, 0xd5a79147, 0x06ca6351, 0x14292967,
    0x27b70a85, 0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e, 0x92722c85,
    0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819, 0xd6990624, 0xf40e3585, 0x106aa070,
    0x19a4c116, 0x1e376c08, 0x2748774c, 0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3,
    0x748f82ee, 0x78a5636f, 0x84c87814, 0x8cc70208, 0x90befffa, 0xa4506ceb, 0xbef9a3f7, 0xc67178f2};

#define HAMBREL_INLINE __attribute__((always_inline)) inline

/// A word of each lane. The functions below are inlined into one that is compiled for the processor that has such
/// vectors; the rest of the program is compiled for any.
template <std::size_t Lanes>
struct Words {
  typedef std::uint32_t type __attribute__((vector_size(4 * Lanes)));
};
template <std::size_t Lanes>
using Vector = typename Words<Lanes>::type;

#define HAMBREL_ROTATED(x, n) (((x) >> (n)) | ((x) << (32 - (n))))

/// Alternately a word of one and of the other: of their first halves, or of their second ones.
template <std::size_t Half, std::size_t... I>
HAMBREL_INLINE void zip(const auto& one, const auto& other, auto& result, std::index_sequence<I...>) {
  constexpr std::size_t lanes = sizeof...(I);
  result = __builtin_shufflevector(one, other, static_cast<int>(Half * lanes / 2 + I / 2 + (I % 2) * lanes)...);
}

/// From `Lanes` words of each lane to a vector for each word: zipping halves as often as doubling 1 makes `Lanes`.
template <std::size_t Lanes>
HAMBREL_INLINE void transpose(Vector<Lanes>* words) {
  Vector<Lanes> other[Lanes];
  for (std::size_t step = 1; step < Lanes; step *= 2) {
#pragma GCC unroll 16
    for (std::size_t i = 0; i < Lanes / 2; ++i) {
      zip<0>(words[i], words[i + Lanes / 2], other[2 * i], std::make_index_sequence<Lanes>());
      zip<1>(words[i], words[i + Lanes / 2], other[2 * i + 1], std::make_index_sequence<Lanes>());
    }
#pragma GCC unroll 16
    for (std::size_t i = 0; i < Lanes; ++i) words[i] = other[i];
  }
}

/// FIPS 180-4, 6.2.2, of `count` blocks in each lane.
template <std::size_t Lanes>
HAMBREL_INLINE void compress(std::uint32_t (&states)[8][Lanes], const std::byte* (&blocks)[Lanes], std::size_t count) {
  Vector<Lanes> state[8];
  std::memcpy(state, states, sizeof states);
  for (; count > 0; --count) {
    Vector<Lanes> w[16];
    for (std::size_t part = 0; part < 16; part += Lanes) {
      for (std::size_t lane = 0; lane < Lanes; ++lane)
        std::memcpy(&w[part + lane], blocks[lane] + 4 * part, sizeof w[0]);
      transpose<Lanes>(w + part);
    }
    for (const std::byte*& block : blocks) block += kBlock;
#pragma GCC unroll 16
    for (auto& word : w)  // big-endian
      word = (HAMBREL_ROTATED(word, 24) & 0x00ff00ffU) | (HAMBREL_ROTATED(word, 8) & 0xff00ff00U);
    Vector<Lanes> a = state[0], b = state[1], c = state[2], d = state[3], e = state[4], f = state[5], g = state[6],
                  h = state[7];
    for (std::size_t sixteen = 0; sixteen < 64; sixteen += 16) {
#pragma GCC unroll 16
      for (std::size_t i = 0; i < 16; ++i) {
        if (sixteen > 0) {
          const Vector<Lanes> late = w[(i + 14) % 16], early = w[(i + 1) % 16];
          w[i] += (HAMBREL_ROTATED(late, 17) ^ HAMBREL_ROTATED(late, 19) ^ (late >> 10)) + w[(i + 9) % 16] +
                  (HAMBREL_ROTATED(early, 7) ^ HAMBREL_ROTATED(early, 18) ^ (early >> 3));
        }
        const Vector<Lanes> first = h + (HAMBREL_ROTATED(e, 6) ^ HAMBREL_ROTATED(e, 11) ^ HAMBREL_ROTATED(e, 25)) +
                                    (g ^ (e & (f ^ g))) + (w[i] + kRound[sixteen + i]);
        const Vector<Lanes> second =
            (HAMBREL_ROTATED(a, 2) ^ HAMBREL_ROTATED(a, 13) ^ HAMBREL_ROTATED(a, 22)) + ((a & b) | (c & (a | b)));
        h = g;
        g = f;
        f = e;
        e = d + first;
        d = c;
        c = b;
        b = a;
        a = first + second;
      }
    }
    state[0] += a;
    state[1] += b;
    state[2] += c;
    state[3] += d;
    state[4] += e;
    state[5] += f;
    state[6] += g;
    state[7] += h;
  }
  std::memcpy(states, state, sizeof states);
}

__attribute__((target("avx512f,avx512vl,avx512bw"))) void compress_wide(std::uint32_t (&states)[8][16],
                                                                        const std::byte* (&blocks)[16],
                                                                        std::size_t count) {
  compress<16>(states, blocks, count);
}

__attribute__((target("avx2"))) void compress_wide(std::uint32_t (&states)[8][8], const std::byte* (&blocks)[8],
                                                   std::size_t count) {
  compress<8>(states, blocks, count);
}

#undef HAMBREL_ROTATED
#undef HAMBREL_INLINE

/// All lanes go on together up to the next end of one of them; then that one takes the next message.
template <std::size_t Lanes>
void digest_in_lanes(std::vector<Message>& messages, std::vector<Digest>& digests) {
  constexpr std::size_t kTooFew = 2;  // busy lanes with which one after the other is as fast
  std::uint32_t states[8][Lanes] = {};
  std::array<Message*, Lanes> in_lane{};
  auto next = messages.begin();
  const auto state_of = [&](std::size_t lane) {
    State state;
    for (std::size_t i = 0; i < 8; ++i) state[i] = states[i][lane];
    return state;
  };
  for (;;) {
    std::size_t busy = 0, count = SIZE_MAX;  // blocks that each busy lane has one after the other
    const std::byte* blocks[Lanes] = {};
    const std::byte* any = nullptr;
    for (std::size_t lane = 0; lane < Lanes; ++lane) {
      Message*& message = in_lane[lane];
      if (message != nullptr && message->at == message->blocks) {
        digests[message->number] = digest_of(state_of(lane));
        message = nullptr;
      }
      if (message == nullptr && next != messages.end()) {
        message = &*next++;
        for (std::size_t i = 0; i < 8; ++i) states[i][lane] = kStart[i];
      }
      if (message == nullptr) continue;
      ++busy;
      count = std::min(count, message->run());
      any = blocks[lane] = message->block(message->at);
    }
    if (busy <= kTooFew) break;
    std::replace(std::begin(blocks), std::end(blocks), static_cast<const std::byte*>(nullptr), any);  // idle lanes
    compress_wide(states, blocks, count);
    for (Message* const message : in_lane)
      if (message != nullptr) message->at += count;
  }
  for (std::size_t lane = 0; lane < Lanes; ++lane)
    if (in_lane[lane] != nullptr) digests[in_lane[lane]->number] = finish_alone(*in_lane[lane], state_of(lane));
}

/// The instructions for SHA-256 itself beat any number of lanes.
bool has_own_instructions() {
  unsigned a = 0, b = 0, c = 0, d = 0;
  return __get_cpuid_count(7, 0, &a, &b, &c, &d) != 0 && (b & (1U << 29)) != 0;
}

std::size_t widest() {
  if (__builtin_cpu_supports("avx512bw") != 0 && __builtin_cpu_supports("avx512vl") != 0) return 16;
  return __builtin_cpu_supports("avx2") != 0 ? 8 : 1;
}

template <typename Of>
std::vector<Digest> digest_side_by_side(std::span<const Of> contents, std::size_t lanes) {
  std::vector<Digest> digests(contents.size());
  std::vector<Message> messages;
  messages.reserve(contents.size());
  for (std::size_t i = 0; i < contents.size(); ++i) messages.emplace_back(contents[i], i);
  // the longest first: so the lanes run empty together
  std::stable_sort(messages.begin(), messages.end(),
                   [](const Message& a, const Message& b) { return a.blocks > b.blocks; });
  lanes < 16 ? digest_in_lanes<8>(messages, digests) : digest_in_lanes<16>(messages, digests);
  return digests;
}

#else

bool has_own_instructions() { return false; }
std::size_t widest() { return 1; }

#endif

Digest digest_of(std::span<const std::byte> message) { return sha256(message); }

Digest digest_of(const MessageToRead& message) {
  Sha256 digest;
  std::vector<std::byte> piece;
  for (std::uint64_t at = 0; at < message.size; at += piece.size()) {
    piece.resize(std::min<std::uint64_t>(kPiece, message.size - at));
    message.read(at, piece);
    digest.update(std::string_view(reinterpret_cast<const char*>(piece.data()), piece.size()));
  }
  return digest.finish();
}

template <typename Of>
std::vector<Digest> digest_each(std::span<const Of> contents, std::size_t lanes) {
  lanes = std::min(lanes, widest());
#if defined(__x86_64__)
  if (lanes >= 8 && contents.size() > 1) return digest_side_by_side(contents, lanes);
#endif
  std::vector<Digest> digests;
  digests.reserve(contents.size());
  for (const Of& content : contents) digests.push_back(digest_of(content));
  return digests;
}

}  // namespace

std::size_t sha256_lanes() {
  static const std::size_t lanes = has_own_instructions() ? 1 : widest();
  return lanes;
}

std::vector<Digest> sha256_of_each(std::span<const std::span<const std::byte>> messages, std::size_t lanes) {
  return digest_each(messages, lanes);
}

std::vector<Digest> sha256_of_each(std::span<const std::span<const std::byte>> messages) {
  return digest_each(messages, sha256_lanes());
}

std::vector<Digest> sha256_of_each(std::span<const MessageToRead> messages, std::size_t lanes) {
  return digest_each(messages, lanes);
}

std::vector<Digest> sha256_of_each(std::span<const MessageToRead> messages) {
  return digest_each(messages, sha256_lanes());
}

}  // namespace hambrel
