#include "operations/keys.h"

#include <fmt/format.h>

#include <algorithm>

#include "archive/package_reader.h"
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

namespace {

void sort_by_key(std::vector<archive::PackageSignature>& signatures) {
  std::sort(signatures.begin(), signatures.end(), [](const auto& a, const auto& b) { return a.key < b.key; });
}

/// A copy of a package file with another list of signatures, written beside it.
void write_signed(os::FileSystem& host, const std::string& path, const std::string& part, const archive::Footer& footer,
                  const std::vector<archive::PackageSignature>& signatures) {
  constexpr std::uint64_t kPiece = 4 << 20;
  const auto from = host.open(path);
  const auto to = host.create(part, host.stat_followed_present(path).mode);
  const auto write = [&](const std::string& bytes) { to->write(std::as_bytes(std::span(bytes))); };
  const std::uint64_t end = footer.table_offset + footer.table_size;
  for (std::uint64_t at = 0; at < end; at += kPiece) write(from->read_exactly(at, std::min(kPiece, end - at), path));
  write(archive::encode_signatures(signatures));
  write(archive::encode_footer(footer));
  to->sync();
}

SignedFile sign_package(os::FileSystem& host, const std::string& file, const trust::PrivateKey& key) {
  const archive::PackageReader reader(host.open(os::host_path(file)), file);
  reader.verify_all();
  std::vector<archive::PackageSignature> signatures = signatures_by({key}, reader.footer().table_digest);
  for (const archive::PackageSignature& one : reader.signatures())
    if (one.key != signatures.front().key) signatures.push_back(one);
  if (signatures.size() > archive::kMostSignatures)
    throw Error(ErrorCode::Refused, fmt::format("has {} signatures already", archive::kMostSignatures), file);
  sort_by_key(signatures);
  const std::string target = os::host_path(file), part = target + ".part";
  if (host.stat(part)) host.remove_file(part);
  try {
    write_signed(host, target, part, reader.footer(), signatures);
    host.rename(part, target);
  } catch (const Error&) {
    if (host.stat(part)) host.remove_file(part);
    throw;
  }
  host.sync_directory(os::parent_of(target));
  return {file, "package", 0, key.public_key().id(), signatures.size()};
}

}  // namespace

std::vector<archive::PackageSignature> signatures_by(const std::vector<trust::PrivateKey>& keys, const Digest& table) {
  std::vector<archive::PackageSignature> signatures;
  for (const trust::PrivateKey& key : keys)
    signatures.push_back({key.public_key().bytes(), key.sign(archive::signed_message(table))});
  sort_by_key(signatures);
  const auto same = [](const auto& a, const auto& b) { return a.key == b.key; };
  signatures.erase(std::unique(signatures.begin(), signatures.end(), same), signatures.end());
  return signatures;
}

trust::PublicKey read_public_key(const std::string& file) {
  const auto host = os::open_file_system("/");
  const std::string pem = read(*host, file, trust::kMostKeyBytes);
  if (pem.find("PRIVATE KEY") == std::string::npos) return trust::PublicKey::from_pem(pem, file);
  return private_key(pem, file,
                     [](const std::string& name) -> std::string {
                       throw Error(ErrorCode::Refused, "is a private key with a passphrase", name,
                                   "give its public half, FILE.pub");
                     })
      .public_key();
}

SignedFile sign_file(const std::string& file, const std::string& key_file, const Passphrase& passphrase) {
  const auto host = os::open_file_system("/");
  const bool is_package = file.ends_with(".hambrel");
  std::optional<trust::SignedDocument> document;
  if (!is_package) document = trust::SignedDocument::parse(read(*host, file, trust::kMostMetadataBytes), "", file);
  const trust::PrivateKey key = private_key(read(*host, key_file, trust::kMostKeyBytes), key_file, passphrase);
  if (is_package) return sign_package(*host, file, key);
  document->sign(key);
  const std::string path = os::host_path(file);
  host->replace_file(path, document->text(), host->stat_followed_present(path).mode);
  return {file, document->content().at("_type"), document->version(), key.public_key().id(), document->signatures()};
}

}  // namespace hambrel::operations
