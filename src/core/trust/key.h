// Ed25519 keys (RFC 8032) and what is signed with them.
//
// In files: private keys as PKCS#8 PEM, encrypted where they have a passphrase, public ones as SubjectPublicKeyInfo
// PEM, so that general tools read both. In documents, as TUF 1.0 has it: an object of keytype, scheme and the 32 bytes
// in hexadecimal digits; a key's id is the SHA-256 of that object's canonical form.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include <nlohmann/json_fwd.hpp>

namespace hambrel::trust {

inline constexpr std::uint64_t kMostKeyBytes = 64ULL << 10;  // of a file

using Signature = std::array<std::uint8_t, 64>;
std::string hex(const Signature& signature);
/// Exactly 128 lower-case hexadecimal digits; nothing for any other text.
std::optional<Signature> signature_from_hex(std::string_view text);

class PublicKey {
 public:
  using Bytes = std::array<std::uint8_t, 32>;
  explicit PublicKey(const Bytes& bytes) : bytes_(bytes) {}
  /// Throws Error{Invalid} naming `where` for what is no public Ed25519 key.
  static PublicKey from_pem(std::string_view pem, const std::string& where);
  /// From an object of a document; nothing for one of another kind, which this program cannot use.
  static std::optional<PublicKey> from_document(const nlohmann::json& key, const std::string& where);

  const Bytes& bytes() const { return bytes_; }
  nlohmann::json document() const;
  std::string id() const;  // 64 hexadecimal digits
  std::string pem() const;
  bool verifies(std::string_view message, const Signature& signature) const;
  auto operator<=>(const PublicKey&) const = default;

 private:
  Bytes bytes_;
};

class PrivateKey {
 public:
  static PrivateKey make();
  /// `passphrase` is asked only where the key is encrypted. Throws Error{Invalid} for what is no private Ed25519 key,
  /// Error{Refused} for a wrong passphrase.
  static PrivateKey from_pem(std::string_view pem, const std::string& where,
                             const std::function<std::string()>& passphrase);
  /// Encrypted where there is a passphrase.
  std::string pem(const std::string& passphrase) const;
  PublicKey public_key() const;
  Signature sign(std::string_view message) const;

 private:
  explicit PrivateKey(std::shared_ptr<void> key) : key_(std::move(key)) {}
  std::shared_ptr<void> key_;  // of the library
};

}  // namespace hambrel::trust
