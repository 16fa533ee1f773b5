// libcrypto's general interface, loaded where keys and signatures are worked with: most runs need none of it.
//
// SHA-256 is linked without it (digest.cpp): its tables would cost every start of the program.
#pragma once

#include <openssl/err.h>
#include <openssl/evp.h>
#include <openssl/pem.h>
#include <openssl/pkcs12.h>
#include <openssl/x509.h>

namespace hambrel {

/// The functions in use, under their own names.
struct CryptoLibrary {
  EVP_PKEY* (*EVP_PKEY_Q_keygen)(OSSL_LIB_CTX*, const char*, const char*, ...);
  decltype(&::EVP_PKEY_new_raw_public_key) EVP_PKEY_new_raw_public_key;
  decltype(&::EVP_PKEY_get_raw_public_key) EVP_PKEY_get_raw_public_key;
  decltype(&::EVP_PKEY_get_id) EVP_PKEY_get_id;
  decltype(&::EVP_PKEY_free) EVP_PKEY_free;
  decltype(&::EVP_MD_CTX_new) EVP_MD_CTX_new;
  decltype(&::EVP_MD_CTX_free) EVP_MD_CTX_free;
  decltype(&::EVP_DigestSignInit) EVP_DigestSignInit;
  decltype(&::EVP_DigestSign) EVP_DigestSign;
  decltype(&::EVP_DigestVerifyInit) EVP_DigestVerifyInit;
  decltype(&::EVP_DigestVerify) EVP_DigestVerify;
  decltype(&::EVP_aes_256_cbc) EVP_aes_256_cbc;
  decltype(&::BIO_new) BIO_new;
  decltype(&::BIO_s_mem) BIO_s_mem;
  decltype(&::BIO_new_mem_buf) BIO_new_mem_buf;
  decltype(&::BIO_ctrl) BIO_ctrl;
  decltype(&::BIO_free) BIO_free;
  decltype(&::PEM_read_bio_PrivateKey) PEM_read_bio_PrivateKey;
  decltype(&::PEM_read_bio_PUBKEY) PEM_read_bio_PUBKEY;
  decltype(&::PEM_write_bio_PKCS8PrivateKey) PEM_write_bio_PKCS8PrivateKey;
  decltype(&::PEM_write_bio_PKCS8) PEM_write_bio_PKCS8;
  decltype(&::EVP_PKEY2PKCS8) EVP_PKEY2PKCS8;
  decltype(&::PKCS5_pbe2_set_scrypt) PKCS5_pbe2_set_scrypt;
  decltype(&::PKCS8_set0_pbe) PKCS8_set0_pbe;
  decltype(&::PKCS8_PRIV_KEY_INFO_free) PKCS8_PRIV_KEY_INFO_free;
  decltype(&::X509_SIG_free) X509_SIG_free;
  decltype(&::X509_ALGOR_free) X509_ALGOR_free;
  decltype(&::PEM_write_bio_PUBKEY) PEM_write_bio_PUBKEY;
  decltype(&::ERR_clear_error) ERR_clear_error;
};

/// Loads the library the first time. Throws Error{Internal} if it is not there.
const CryptoLibrary& crypto_library();

}  // namespace hambrel
