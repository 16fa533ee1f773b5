#include "operations/keys.h"

#include "base/error.h"
#include "base/json.h"
#include "os/file_system.h"
#include "trust/documents.h"
#include "trust/key.h"
#include "trust/signed_document.h"

namespace hambrel::operations {

namespace {

constexpr const char* kPublicEnd = ".pub";

std::string read(os::FileSystem& host, const std::string& file, std::uint64_t most) {
  const std::string path = os::host_path(file);
  const auto info = host.stat_followed(path);
  if (!info || info->type != os::FileType::Regular)
    throw Error(ErrorCode::NotFound, "there is no such file", file, "check the path");
  return host.read_all(path, most);
}

trust::PrivateKey private_key(const std::string& pem, const std::string& file, const Passphrase& passphrase) {
  return trust::PrivateKey::from_pem(pem, file, [&] { return passphrase(file); });
}

KeyFile described(const std::string& file, const trust::PublicKey& key) {
  KeyFile result;
  result.file = file;
  result.id = key.id();
  result.public_key = key.document()["keyval"]["public"];
  return result;
}

/// Appears whole or not at all. What somebody else put there meanwhile stays.
void write_new(os::FileSystem& host, const std::string& file, const std::string& content, std::uint32_t mode) {
  const std::string path = os::host_path(file);
  const auto made = host.create(path, mode);
  try {
    made->write(std::as_bytes(std::span(content)));
    made->sync();
    host.sync_directory(os::parent_of(path));
  } catch (const Error&) {
    host.remove_file(path);
    throw;
  }
}

}  // namespace

KeyFile make_key(const std::string& file, const std::string& passphrase) {
  const auto host = os::open_file_system("/");
  const std::string public_file = file + kPublicEnd;
  for (const std::string& one : {file, public_file})
    if (host->stat(os::host_path(one)))
      throw Error(ErrorCode::Refused, "is there already; a key is never overwritten", one, "name another file");
  const std::string parent(os::parent_of(os::host_path(file)));
  const auto info = host->stat_followed(parent);
  if (!info || info->type != os::FileType::Directory)
    throw Error(ErrorCode::NotFound, "the directory for the key is missing", file, "make it first");
  const trust::PrivateKey key = trust::PrivateKey::make();
  write_new(*host, file, key.pem(passphrase), 0600);
  try {
    write_new(*host, public_file, key.public_key().pem(), 0644);
  } catch (const Error&) {  // no half of a key
    host->remove_file(os::host_path(file));
    throw;
  }
  KeyFile result = described(file, key.public_key());
  result.is_private = true;
  result.has_passphrase = !passphrase.empty();
  result.public_file = public_file;
  return result;
}

KeyFile read_key(const std::string& file, const Passphrase& passphrase) {
  const auto host = os::open_file_system("/");
  const std::string pem = read(*host, file, trust::kMostKeyBytes);
  if (pem.find("PRIVATE KEY") == std::string::npos) return described(file, trust::PublicKey::from_pem(pem, file));
  bool asked = false;
  const Passphrase ask = [&](const std::string& name) {
    asked = true;
    return passphrase(name);
  };
  KeyFile result = described(file, private_key(pem, file, ask).public_key());
  result.is_private = true;
  result.has_passphrase = asked;
  return result;
}

trust::PrivateKey read_private_key(const std::string& file, const Passphrase& passphrase) {
  const auto host = os::open_file_system("/");
  return private_key(read(*host, file, trust::kMostKeyBytes), file, passphrase);
}

trust::KeyRing read_keys(const std::string& directory, const Passphrase& passphrase) {
  const auto host = os::open_file_system("/");
  const std::string path = os::host_path(directory);
  const auto info = host->stat_followed(path);
  if (!info || info->type != os::FileType::Directory)
    throw Error(ErrorCode::NotFound, "the directory does not exist", directory, "check the path");
  trust::KeyRing ring;
  for (const std::string& name : host->list(path)) {
    const std::string file = os::join_path(path, name), shown = os::join_path(directory, name);
    const auto one = host->stat_followed(file);
    if (name.ends_with(kPublicEnd) || !one || one->type != os::FileType::Regular) continue;
    ring.emplace_back(name, private_key(read(*host, shown, trust::kMostKeyBytes), shown, passphrase));
  }
  if (ring.empty())
    throw Error(ErrorCode::NotFound, "there are no keys", directory, "`hambrel key new FILE` makes one");
  return ring;
}

SignedFile sign_document(const std::string& document, const std::string& key_file, const Passphrase& passphrase) {
  const auto host = os::open_file_system("/");
  auto content = trust::SignedDocument::parse(read(*host, document, trust::kMostMetadataBytes), "", document);
  const trust::PrivateKey key = private_key(read(*host, key_file, trust::kMostKeyBytes), key_file, passphrase);
  content.sign(key);
  const std::string path = os::host_path(document);
  host->replace_file(path, content.text(), host->stat_followed(path)->mode);
  return {document, content.content().at("_type"), content.version(), key.public_key().id(), content.signatures()};
}

}  // namespace hambrel::operations
