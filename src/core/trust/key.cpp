#include "trust/key.h"

#include <algorithm>
#include <charconv>
#include <cstring>
#include <exception>
#include <span>

#include "base/crypto_library.h"
#include "base/digest.h"
#include "base/error.h"
#include "base/json.h"
#include "base/text.h"
#include "trust/canonical.h"

namespace hambrel::trust {

namespace {

constexpr const char* kKind = "ed25519";

template <std::size_t kSize>
std::string hex_of(const std::array<std::uint8_t, kSize>& bytes) {
  return to_hex(std::as_bytes(std::span(bytes)));
}

template <std::size_t kSize>
std::optional<std::array<std::uint8_t, kSize>> bytes_of(std::string_view text) {
  if (text.size() != 2 * kSize) return std::nullopt;
  std::array<std::uint8_t, kSize> bytes{};
  for (std::size_t i = 0; i < kSize; ++i) {
    const char* const first = text.data() + 2 * i;
    const auto [end, problem] = std::from_chars(first, first + 2, bytes[i], 16);
    if (problem != std::errc() || end != first + 2) return std::nullopt;
  }
  // only as it would be written: one key has one text
  return hex_of(bytes) == text ? std::optional(bytes) : std::nullopt;
}

using Key = std::shared_ptr<EVP_PKEY>;

Key owned(EVP_PKEY* key) {
  return {key, [](EVP_PKEY* one) { crypto_library().EVP_PKEY_free(one); }};
}

[[noreturn]] void fail(const char* what) {
  crypto_library().ERR_clear_error();
  throw Error(ErrorCode::Internal, what, "libcrypto", "report this");
}

class Memory {
 public:
  Memory() : bio_(crypto_library().BIO_new(crypto_library().BIO_s_mem())) {
    if (bio_ == nullptr) fail("has no memory to write to");
  }
  explicit Memory(std::string_view text)
      : bio_(crypto_library().BIO_new_mem_buf(text.data(), static_cast<int>(text.size()))) {
    if (bio_ == nullptr) fail("has no memory to read from");
  }
  ~Memory() { crypto_library().BIO_free(bio_); }
  Memory(const Memory&) = delete;
  Memory& operator=(const Memory&) = delete;

  BIO* get() const { return bio_; }
  std::string text() const {
    char* start = nullptr;
    const long size = crypto_library().BIO_ctrl(bio_, BIO_CTRL_INFO, 0, &start);
    return {start, static_cast<std::size_t>(size)};
  }

 private:
  BIO* bio_;
};

[[noreturn]] void wrong_key(const char* kind, const std::string& where) {
  crypto_library().ERR_clear_error();
  throw Error(ErrorCode::Invalid, std::string("is not ") + kind + " Ed25519 key in PEM", where,
              "`hambrel key new FILE` makes one");
}

PublicKey public_of(EVP_PKEY* key) {
  PublicKey::Bytes bytes{};
  std::size_t size = bytes.size();
  if (crypto_library().EVP_PKEY_get_raw_public_key(key, bytes.data(), &size) != 1 || size != bytes.size())
    fail("does not give a key's public half");
  return PublicKey(bytes);
}

/// Asked by the library for a passphrase: at most once, and only where the key is encrypted.
struct Asked {
  const std::function<std::string()>* ask;
  bool asked = false;
  std::exception_ptr problem{};
};

int give_passphrase(char* to, int room, int, void* user) {
  auto& asked = *static_cast<Asked*>(user);
  asked.asked = true;
  try {
    const std::string text = (*asked.ask)();
    if (text.size() > static_cast<std::size_t>(room)) return -1;
    std::memcpy(to, text.data(), text.size());
    return static_cast<int>(text.size());
  } catch (...) {  // not through the library
    asked.problem = std::current_exception();
    return -1;
  }
}

}  // namespace

std::string hex(const Signature& signature) { return hex_of(signature); }
std::optional<Signature> signature_from_hex(std::string_view text) { return bytes_of<64>(text); }

PublicKey PublicKey::from_pem(std::string_view pem, const std::string& where) {
  const CryptoLibrary& library = crypto_library();
  const Memory memory(pem);
  const Key key = owned(library.PEM_read_bio_PUBKEY(memory.get(), nullptr, nullptr, nullptr));
  if (!key || library.EVP_PKEY_get_id(key.get()) != EVP_PKEY_ED25519) wrong_key("a public", where);
  return public_of(key.get());
}

std::optional<PublicKey> PublicKey::from_document(const Json& key, const std::string& where) {
  const JsonObject object(key, where);
  if (object.text("keytype") != kKind || object.text("scheme") != kKind) return std::nullopt;
  const JsonObject value(object.member("keyval"), where);
  const auto bytes = bytes_of<32>(value.text("public"));
  if (!bytes) value.wrong("public", "64 lower-case hexadecimal digits");
  return PublicKey(*bytes);
}

Json PublicKey::document() const {
  return {{"keytype", kKind}, {"scheme", kKind}, {"keyval", {{"public", hex_of(bytes_)}}}};
}

std::string PublicKey::id() const { return sha256(canonical_form(document(), "a key")).hex(); }

std::string PublicKey::pem() const {
  const CryptoLibrary& library = crypto_library();
  const Key key = owned(library.EVP_PKEY_new_raw_public_key(EVP_PKEY_ED25519, nullptr, bytes_.data(), bytes_.size()));
  const Memory memory;
  if (!key || library.PEM_write_bio_PUBKEY(memory.get(), key.get()) != 1) fail("does not write a public key");
  return memory.text();
}

bool PublicKey::verifies(std::string_view message, const Signature& signature) const {
  const CryptoLibrary& library = crypto_library();
  const Key key = owned(library.EVP_PKEY_new_raw_public_key(EVP_PKEY_ED25519, nullptr, bytes_.data(), bytes_.size()));
  const std::unique_ptr<EVP_MD_CTX, decltype(library.EVP_MD_CTX_free)> context(library.EVP_MD_CTX_new(),
                                                                               library.EVP_MD_CTX_free);
  if (!key || !context) fail("cannot verify a signature");
  const bool good =
      library.EVP_DigestVerifyInit(context.get(), nullptr, nullptr, nullptr, key.get()) == 1 &&
      library.EVP_DigestVerify(context.get(), signature.data(), signature.size(),
                               reinterpret_cast<const unsigned char*>(message.data()), message.size()) == 1;
  if (!good) library.ERR_clear_error();
  return good;
}

PrivateKey PrivateKey::make() {
  const Key key = owned(crypto_library().EVP_PKEY_Q_keygen(nullptr, nullptr, "ED25519"));
  if (!key) fail("does not make a key");
  return PrivateKey(key);
}

PrivateKey PrivateKey::from_pem(std::string_view pem, const std::string& where,
                                const std::function<std::string()>& passphrase) {
  const CryptoLibrary& library = crypto_library();
  const Memory memory(pem);
  Asked asked{&passphrase};
  const Key key = owned(library.PEM_read_bio_PrivateKey(memory.get(), nullptr, give_passphrase, &asked));
  if (asked.problem) std::rethrow_exception(asked.problem);
  if (!key && asked.asked) {
    library.ERR_clear_error();
    throw Error(ErrorCode::Refused, "the passphrase does not open this key", where, "try again");
  }
  if (!key || library.EVP_PKEY_get_id(key.get()) != EVP_PKEY_ED25519) wrong_key("a private", where);
  return PrivateKey(key);
}

namespace {

/// Encrypted with a key that scrypt (RFC 7914) makes of the passphrase: guessing many of them takes memory, too.
void write_encrypted(const Memory& to, const EVP_PKEY* key, const std::string& passphrase) {
  constexpr std::uint64_t kCost = 16384, kBlock = 8, kParallel = 1;  // 16 MiB, as much as other readers allow
  const CryptoLibrary& library = crypto_library();
  const std::unique_ptr<PKCS8_PRIV_KEY_INFO, decltype(library.PKCS8_PRIV_KEY_INFO_free)> plain(
      library.EVP_PKEY2PKCS8(key), library.PKCS8_PRIV_KEY_INFO_free);
  X509_ALGOR* const how =
      library.PKCS5_pbe2_set_scrypt(library.EVP_aes_256_cbc(), nullptr, 0, nullptr, kCost, kBlock, kParallel);
  if (!plain || how == nullptr) fail("cannot encrypt a key");
  const std::unique_ptr<X509_SIG, decltype(library.X509_SIG_free)> encrypted(
      library.PKCS8_set0_pbe(passphrase.data(), static_cast<int>(passphrase.size()), plain.get(), how),
      library.X509_SIG_free);
  if (!encrypted) library.X509_ALGOR_free(how);  // else it belongs to what was made
  if (!encrypted || library.PEM_write_bio_PKCS8(to.get(), encrypted.get()) != 1) fail("does not write a private key");
}

}  // namespace

std::string PrivateKey::pem(const std::string& passphrase) const {
  const auto* const key = static_cast<const EVP_PKEY*>(key_.get());
  const Memory memory;
  if (!passphrase.empty())
    write_encrypted(memory, key, passphrase);
  else if (crypto_library().PEM_write_bio_PKCS8PrivateKey(memory.get(), key, nullptr, nullptr, 0, nullptr, nullptr) !=
           1)
    fail("does not write a private key");
  return memory.text();
}

PublicKey PrivateKey::public_key() const { return public_of(static_cast<EVP_PKEY*>(key_.get())); }

Signature PrivateKey::sign(std::string_view message) const {
  const CryptoLibrary& library = crypto_library();
  const std::unique_ptr<EVP_MD_CTX, decltype(library.EVP_MD_CTX_free)> context(library.EVP_MD_CTX_new(),
                                                                               library.EVP_MD_CTX_free);
  Signature signature{};
  std::size_t size = signature.size();
  const bool made =
      context &&
      library.EVP_DigestSignInit(context.get(), nullptr, nullptr, nullptr, static_cast<EVP_PKEY*>(key_.get())) == 1 &&
      library.EVP_DigestSign(context.get(), signature.data(), &size,
                             reinterpret_cast<const unsigned char*>(message.data()), message.size()) == 1;
  if (!made || size != signature.size()) fail("does not sign");
  return signature;
}

}  // namespace hambrel::trust
