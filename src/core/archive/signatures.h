// Signatures in a package file: a skippable frame between table and footer, for whoever gets the file without a
// repository. What is signed is the digest of the table of contents, which vouches for everything else.
//
//   8 bytes "HAMSIGNS", 4 bytes version (1), 4 bytes count, then for each 32 bytes of the public key (Ed25519, RFC
//   8032) and 64 bytes of the signature; numbers with the lowest byte first, keys ascending, each once
#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "base/digest.h"

namespace hambrel::archive {

struct PackageSignature {
  std::array<std::uint8_t, 32> key{};
  std::array<std::uint8_t, 64> signature{};
};

inline constexpr std::uint32_t kSignaturesMagic = 0x184D2A5C;
inline constexpr std::size_t kMostSignatures = 64;
inline constexpr std::size_t kMostSignatureBytes = 8 + 16 + kMostSignatures * 96;  // of the frame, with its header

/// With its frame header.
std::string encode_signatures(const std::vector<PackageSignature>& signatures);
/// The same back. Throws Error{Untrusted} for anything that encode_signatures() would not have made.
std::vector<PackageSignature> decode_signatures(std::string_view bytes, const std::string& where);
/// What a key signs for a package file with this table of contents: a text that says what it is, and the digest.
std::string signed_message(const Digest& table);

}  // namespace hambrel::archive
