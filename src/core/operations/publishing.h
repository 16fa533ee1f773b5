// Making package files, and repositories out of them.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "archive/package_writer.h"
#include "base/observer.h"
#include "operations/keys.h"
#include "repo/publish.h"

namespace hambrel::operations {

using repo::Published;

struct PackRequest {
  std::string directory;            // of the host: package.toml, and the files below root/
  std::string output{};             // of the host; empty: NAME/VERSION.ARCH.hambrel below the current directory
  int level = 9;                    // of zstd, 1 to 19
  std::uint32_t mode = 0644;        // of the package file
  std::vector<std::string> keys{};  // of the host: private keys to sign it with
  Passphrase passphrase{};
};
struct Packed {
  std::string file;  // as it was asked for
  archive::WrittenPackage written;
  // What a machine can see of its relations, and package.toml does not state.
  std::vector<std::string> brings{};  // "libtide.so.1"
  std::vector<std::string> needs{};   // "libc.so.6", "/bin/sh"
};
/// The file appears whole or not at all. Throws Error{NotFound}, Error{Invalid} with file and line.
Packed pack(const PackRequest& request, Observer& observer);

using WritePackage = std::function<archive::WrittenPackage(os::WritableFile&, const archive::WriteOptions&)>;
/// Where the request says, under the name of `package` otherwise: what `write` writes.
Packed pack_into(const PackRequest& request, const Package& package, const WritePackage& write);

struct PublishRequest {
  std::string directory;                  // of the host: packages/ below it
  std::string keys{};                     // of the host: a directory with private keys to sign with; empty: none
  std::vector<std::string> key_files{};   // FILE, to sign with, or ROLE=FILE, to be one of that role's keys, too
  bool init = false;                      // make the first root document of those keys
  std::vector<std::string> rotate{};      // roles that get the keys at hand which are named for them
  std::vector<std::string> thresholds{};  // ROLE=NUMBER
  std::vector<std::string> expires{};     // ROLE=DAYS
  bool renew = false;                     // give the timestamp a new life
  bool finish = false;                    // go on with what waits for signatures
  std::vector<std::string> subset{};      // specs: what they need becomes a repository of its own,
  std::vector<std::string> with{};        // also taken from these repositories of the host
  std::string target{};                   // in this directory of the host; it is what is published then
  std::string promote{}, from{}, to{};    // a spec whose versions move from one channel to another; empty: none
  Passphrase passphrase{};
  /// The list of the recipes that lie in the repository (repo/recipe_list.h), whose archives it makes; nothing: none.
  std::function<std::string(os::FileSystem&)> list_recipes{};
};
/// Throws Error{Usage} for roles and numbers that are none, what repo::publish() throws, Error{NotFound} where there is
/// no such directory of the host.
Published publish(const PublishRequest& request, Observer& observer);

}  // namespace hambrel::operations
