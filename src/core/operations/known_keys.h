// The keys that sign package files and are known to a root.
#pragma once

#include <string>
#include <vector>

#include "operations/root.h"
#include "trust/key.h"

namespace hambrel::operations {

struct KnownKey {
  std::string name, id;
};
/// By name. Throws Error{Invalid} for a file that is no key.
std::vector<KnownKey> known_keys(Root& root);
/// From now on what is signed with it is taken. `file`: of the host, the public half or the private one, of which only
/// the public half is kept; `name`: empty for that of the file. Throws Error{Refused} where it is known already.
KnownKey add_known_key(Root& root, const std::string& file, std::string name);
/// Throws Error{NotFound}.
void drop_known_key(Root& root, const std::string& name);

/// Who signed a package file.
struct FileSigner {
  std::string key;   // id
  std::string name;  // of the key here; empty: it is not known here
};
/// Throws Error{Untrusted} where a signature does not fit the file.
std::vector<FileSigner> signers_of(Root& root, const archive::PackageReader& file);
/// The same of the package file that a spec named; nothing where none did.
std::optional<std::vector<FileSigner>> signers_of(Root& root, PackageId id);

}  // namespace hambrel::operations
