#include "operations/known_keys.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "operations/keys.h"
#include "settings/known_keys.h"

namespace hambrel::operations {

namespace {

/// "skerry" of "keys/skerry.key.pub".
std::string key_name_for(const std::string& file) {
  std::string name = file.substr(file.rfind('/') + 1);  // all of it where there is no slash
  for (const std::string_view end : {".pub", ".key", ".pem"})
    if (name.ends_with(end)) name.resize(name.size() - end.size());
  return name;
}

}  // namespace

std::vector<KnownKey> known_keys(Root& root) {
  std::vector<KnownKey> keys;
  for (const settings::KnownKeyFile& one : settings::load_keys(root.files()))
    keys.push_back({one.name, trust::PublicKey::from_pem(one.pem, one.file).id()});
  return keys;
}

KnownKey add_known_key(Root& root, const std::string& file, std::string name) {
  if (name.empty()) name = key_name_for(file);
  const trust::PublicKey key = read_public_key(file);
  for (const KnownKey& one : known_keys(root))
    if (one.id == key.id())
      throw Error(ErrorCode::Refused, fmt::format("this key is known already, as {}", one.name), file,
                  fmt::format("`hambrel key drop {}` forgets it", one.name));
  settings::add_key(root.files(), name, key.pem());
  return {name, key.id()};
}

void drop_known_key(Root& root, const std::string& name) { settings::drop_key(root.files(), name); }

std::vector<FileSigner> signers_of(Root& root, const archive::PackageReader& file) {
  std::vector<FileSigner> signers;
  if (file.signatures().empty()) return signers;
  const std::vector<KnownKey> known = known_keys(root);
  const std::string message = archive::signed_message(file.footer().table_digest);
  for (const archive::PackageSignature& one : file.signatures()) {
    const trust::PublicKey key(one.key);
    if (!key.verifies(message, one.signature))
      throw Error(ErrorCode::Untrusted, fmt::format("the signature of key {} does not fit this file", key.id()),
                  file.where(), "the file was changed after it was signed: get it again, or ask who made it");
    const auto found = std::find_if(known.begin(), known.end(), [&](const KnownKey& k) { return k.id == key.id(); });
    signers.push_back({key.id(), found == known.end() ? std::string() : found->name});
  }
  return signers;
}

std::optional<std::vector<FileSigner>> signers_of(Root& root, PackageId id) {
  const archive::PackageReader* const file = root.file_reader(id);
  return file == nullptr ? std::nullopt : std::optional(signers_of(root, *file));
}

}  // namespace hambrel::operations
