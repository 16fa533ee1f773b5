// SHA-256 (FIPS 180-4) digests: the value and the running computation.
#pragma once

#include <array>
#include <compare>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace hambrel {

/// 32 bytes of SHA-256. A default digest is all zero and belongs to nothing.
struct Digest {
  std::array<std::uint8_t, 32> bytes{};
  auto operator<=>(const Digest&) const = default;

  /// 64 lower-case hexadecimal digits.
  std::string hex() const;
  /// The digest written in exactly 64 lower-case hexadecimal digits; nothing for any other text.
  static std::optional<Digest> from_hex(std::string_view text);
};

/// SHA-256 of bytes that arrive in pieces. After finish() the object starts anew.
class Sha256 {
 public:
  Sha256();
  ~Sha256();
  Sha256(const Sha256&) = delete;
  Sha256& operator=(const Sha256&) = delete;

  void update(std::span<const std::byte> data);
  void update(std::string_view data);
  Digest finish();

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

Digest sha256(std::span<const std::byte> data);
Digest sha256(std::string_view data);

}  // namespace hambrel
