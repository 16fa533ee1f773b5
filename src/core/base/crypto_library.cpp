#include "base/crypto_library.h"

#include "base/shared_library.h"

namespace hambrel {

namespace {

CryptoLibrary load_crypto() {
  const SharedLibrary library("libcrypto.so.3", "install libssl3, which signs and verifies");
  CryptoLibrary all{};
  const auto find = [&](const char* name, auto& function) { library.find(name, function); };
  find("EVP_PKEY_Q_keygen", all.EVP_PKEY_Q_keygen);
  find("EVP_PKEY_new_raw_public_key", all.EVP_PKEY_new_raw_public_key);
  find("EVP_PKEY_get_raw_public_key", all.EVP_PKEY_get_raw_public_key);
  find("EVP_PKEY_get_id", all.EVP_PKEY_get_id);
  find("EVP_PKEY_free", all.EVP_PKEY_free);
  find("EVP_MD_CTX_new", all.EVP_MD_CTX_new);
  find("EVP_MD_CTX_free", all.EVP_MD_CTX_free);
  find("EVP_DigestSignInit", all.EVP_DigestSignInit);
  find("EVP_DigestSign", all.EVP_DigestSign);
  find("EVP_DigestVerifyInit", all.EVP_DigestVerifyInit);
  find("EVP_DigestVerify", all.EVP_DigestVerify);
  find("EVP_aes_256_cbc", all.EVP_aes_256_cbc);
  find("BIO_new", all.BIO_new);
  find("BIO_s_mem", all.BIO_s_mem);
  find("BIO_new_mem_buf", all.BIO_new_mem_buf);
  find("BIO_ctrl", all.BIO_ctrl);
  find("BIO_free", all.BIO_free);
  find("PEM_read_bio_PrivateKey", all.PEM_read_bio_PrivateKey);
  find("PEM_read_bio_PUBKEY", all.PEM_read_bio_PUBKEY);
  find("PEM_write_bio_PKCS8PrivateKey", all.PEM_write_bio_PKCS8PrivateKey);
  find("PEM_write_bio_PKCS8", all.PEM_write_bio_PKCS8);
  find("EVP_PKEY2PKCS8", all.EVP_PKEY2PKCS8);
  find("PKCS5_pbe2_set_scrypt", all.PKCS5_pbe2_set_scrypt);
  find("PKCS8_set0_pbe", all.PKCS8_set0_pbe);
  find("PKCS8_PRIV_KEY_INFO_free", all.PKCS8_PRIV_KEY_INFO_free);
  find("X509_SIG_free", all.X509_SIG_free);
  find("X509_ALGOR_free", all.X509_ALGOR_free);
  find("PEM_write_bio_PUBKEY", all.PEM_write_bio_PUBKEY);
  find("ERR_clear_error", all.ERR_clear_error);
  return all;
}

}  // namespace

const CryptoLibrary& crypto_library() {
  static const CryptoLibrary library = load_crypto();
  return library;
}

}  // namespace hambrel
