#include "base/digest.h"

#define OPENSSL_SUPPRESS_DEPRECATED
#include <openssl/sha.h>

#include "base/text.h"

namespace hambrel {

std::string Digest::hex() const { return to_hex(std::as_bytes(std::span(bytes))); }

std::optional<Digest> Digest::from_hex(std::string_view text) {
  Digest digest;
  if (text.size() != 2 * digest.bytes.size()) return std::nullopt;
  static constexpr auto kNibbles = [] {
    std::array<std::uint8_t, 256> values{};
    values.fill(0xFF);
    for (std::uint8_t i = 0; i < 16; ++i) values[static_cast<std::uint8_t>("0123456789abcdef"[i])] = i;
    return values;
  }();
  unsigned bad = 0;  // no digit makes a value above 15
  for (std::size_t i = 0; i < digest.bytes.size(); ++i) {
    const unsigned high = kNibbles[static_cast<std::uint8_t>(text[2 * i])];
    const unsigned low = kNibbles[static_cast<std::uint8_t>(text[2 * i + 1])];
    bad |= high | low;
    digest.bytes[i] = static_cast<std::uint8_t>(high << 4 | low);
  }
  if (bad > 15) return std::nullopt;
  return digest;
}

// The plain functions, not OpenSSL's general interface: that one links in all algorithms that there are (a hundred
// pages that every start of the program would have to relocate) and looks its algorithm up by name.
struct Sha256::Impl {
  SHA256_CTX context;
};

Sha256::Sha256() : impl_(std::make_unique<Impl>()) { SHA256_Init(&impl_->context); }
Sha256::~Sha256() = default;

void Sha256::update(std::span<const std::byte> data) { SHA256_Update(&impl_->context, data.data(), data.size()); }
void Sha256::update(std::string_view data) { update(std::as_bytes(std::span(data))); }

Digest Sha256::finish() {
  Digest digest;
  SHA256_Final(digest.bytes.data(), &impl_->context);
  SHA256_Init(&impl_->context);
  return digest;
}

Digest sha256(std::span<const std::byte> data) {
  Sha256 running;
  running.update(data);
  return running.finish();
}

Digest sha256(std::string_view data) { return sha256(std::as_bytes(std::span(data))); }

}  // namespace hambrel
