#include "base/digest.h"

#include <openssl/evp.h>

#include "base/error.h"
#include "base/text.h"

namespace hambrel {

std::string Digest::hex() const { return to_hex(std::as_bytes(std::span(bytes))); }

std::optional<Digest> Digest::from_hex(std::string_view text) {
  Digest digest;
  if (text.size() != 2 * digest.bytes.size()) return std::nullopt;
  auto nibble = [](char c) { return c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1; };
  for (std::size_t i = 0; i < digest.bytes.size(); ++i) {
    const int high = nibble(text[2 * i]), low = nibble(text[2 * i + 1]);
    if (high < 0 || low < 0) return std::nullopt;
    digest.bytes[i] = static_cast<std::uint8_t>(high * 16 + low);
  }
  return digest;
}

namespace {
// Fetched once: looking the algorithm up for every digest costs more than a small digest itself.
const EVP_MD* algorithm() {
  static const EVP_MD* const md = EVP_MD_fetch(nullptr, "SHA256", nullptr);
  return md;
}
}  // namespace

struct Sha256::Impl {
  EVP_MD_CTX* context = EVP_MD_CTX_new();
  ~Impl() { EVP_MD_CTX_free(context); }
  void start() {
    if (context == nullptr || EVP_DigestInit_ex2(context, algorithm(), nullptr) != 1)
      throw Error(ErrorCode::Internal, "SHA-256 is not available", "OpenSSL", "check the installation of libcrypto");
  }
};

Sha256::Sha256() : impl_(std::make_unique<Impl>()) { impl_->start(); }
Sha256::~Sha256() = default;

void Sha256::update(std::span<const std::byte> data) { EVP_DigestUpdate(impl_->context, data.data(), data.size()); }
void Sha256::update(std::string_view data) { update(std::as_bytes(std::span(data))); }

Digest Sha256::finish() {
  Digest digest;
  EVP_DigestFinal_ex(impl_->context, digest.bytes.data(), nullptr);
  impl_->start();
  return digest;
}

Digest sha256(std::span<const std::byte> data) {
  Sha256 running;
  running.update(data);
  return running.finish();
}

Digest sha256(std::string_view data) { return sha256(std::as_bytes(std::span(data))); }

}  // namespace hambrel
