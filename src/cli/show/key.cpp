#include "cli/show/key.h"

#include <fmt/format.h>

#include "base/json.h"
#include "cli/show/rows.h"

namespace hambrel::cli {

Json document_of(const operations::KeyFile& key) {
  Json object = {{"file", key.file},
                 {"id", key.id},
                 {"public", key.public_key},
                 {"private", key.is_private},
                 {"passphrase", key.has_passphrase}};
  if (!key.public_file.empty()) object["public_file"] = key.public_file;
  return object;
}

std::string text_of(const operations::KeyFile& key) {
  const char* kind = "public key";
  if (key.is_private)
    kind = key.has_passphrase ? "private key, with a passphrase" : "private key, without a passphrase";
  return fmt::format("{}: {}\n  id      {}\n  public  {}", key.file, kind, key.id, key.public_key);
}

void show(const Session& session, const std::vector<operations::KnownKey>& keys) {
  Rows rows(session);
  for (const operations::KnownKey& one : keys)
    rows.add([&] { return Json{{"name", one.name}, {"id", one.id}}; }, {{one.name, Style::Name}, {one.id}});
  rows.print("No key that signs package files is known here. Add one: hambrel key add FILE");
}

}  // namespace hambrel::cli
