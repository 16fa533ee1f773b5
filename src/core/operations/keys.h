// Keys and signatures in files of the host, for whoever makes packages and repositories.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "archive/signatures.h"
#include "trust/signing.h"

namespace hambrel::operations {

/// Asked for the passphrase of a key file, only where it has one. May throw.
using Passphrase = std::function<std::string(const std::string& file)>;

struct KeyFile {
  std::string file;
  std::string id;           // as documents name the key: 64 hexadecimal digits
  std::string public_key;   // 64 hexadecimal digits
  bool is_private = false;  // holds the private half
  bool has_passphrase = false;
  std::string public_file{};  // where the public half was written, too
};

/// Makes a key in a new file that only its owner can read, and its public half beside it, in FILE.pub. Encrypted where
/// there is a passphrase. Throws Error{Refused} where one of the files is there.
KeyFile make_key(const std::string& file, const std::string& passphrase);
/// Throws Error{NotFound}, Error{Invalid}.
KeyFile read_key(const std::string& file, const Passphrase& passphrase);

/// Throws Error{NotFound}, Error{Invalid}.
trust::PrivateKey read_private_key(const std::string& file, const Passphrase& passphrase);
/// Of a file with either half. Throws Error{NotFound}, Error{Invalid}, Error{Refused} for a private one with a
/// passphrase.
trust::PublicKey read_public_key(const std::string& file);
/// The private keys in a directory. Throws Error{NotFound} where it has none.
trust::KeyRing read_keys(const std::string& directory, const Passphrase& passphrase);

/// Of a package file with this table of contents, as the file has them. One of each key.
std::vector<archive::PackageSignature> signatures_by(const std::vector<trust::PrivateKey>& keys, const Digest& table);

struct SignedFile {
  std::string file, type;      // root, timestamp, snapshot, targets, or package
  std::uint64_t version = 0;   // of the document; 0 of a package file
  std::string key;             // the id
  std::size_t signatures = 0;  // that it has now
};
/// Adds a signature to a document of a repository or to a package file, or renews the one of that key. It is written
/// whole or not at all.
SignedFile sign_file(const std::string& file, const std::string& key_file, const Passphrase& passphrase);

}  // namespace hambrel::operations
