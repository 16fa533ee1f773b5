#include "settings/known_keys.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "model/package.h"

namespace hambrel::settings {

namespace {

constexpr std::uint64_t kMostKeyBytes = 64 << 10;
constexpr std::string_view kEnd = ".pub";

std::string key_file(const std::string& name) { return fmt::format("{}/{}{}", kKeyDirectory, name, kEnd); }

}  // namespace

std::vector<KnownKeyFile> load_keys(os::FileReader& root) {
  std::vector<KnownKeyFile> keys;
  if (!root.stat_followed(kKeyDirectory)) return keys;
  for (const std::string& file : root.list(kKeyDirectory)) {
    if (!file.ends_with(kEnd)) continue;
    const std::string path = fmt::format("{}/{}", kKeyDirectory, file);
    keys.push_back({file.substr(0, file.size() - kEnd.size()), root.shown(path), root.read_all(path, kMostKeyBytes)});
  }
  return keys;
}

void add_key(os::FileSystem& root, const std::string& name, const std::string& pem) {
  if (!is_package_name(name))
    throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not a name for a key", printable(name)), {},
                "use lower-case letters, digits and + . _ -");
  const std::string path = key_file(name);
  if (root.stat(path))
    throw Error(ErrorCode::Refused, fmt::format("a key called {} is known already", name), root.shown(path),
                fmt::format("choose another name, or drop it first: hambrel key drop {}", name));
  root.make_directories(kKeyDirectory);
  root.replace_file(path, pem, 0644);
}

void drop_key(os::FileSystem& root, const std::string& name) {
  if (!is_package_name(name) || !root.stat(key_file(name)))
    throw Error(ErrorCode::NotFound, fmt::format("no key is called \"{}\"", printable(name)), root.shown(kKeyDirectory),
                "`hambrel key list` shows them");
  root.remove_file(key_file(name));
  root.sync_directory(kKeyDirectory);
}

}  // namespace hambrel::settings
