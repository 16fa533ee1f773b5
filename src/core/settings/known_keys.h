// The public keys of whoever signs package files for this root: etc/hambrel/keys/NAME.pub.
#pragma once

#include <string>
#include <vector>

#include "os/file_system.h"

namespace hambrel::settings {

inline constexpr const char* kKeyDirectory = "etc/hambrel/keys";

/// A file of a key, as text (PEM).
struct KnownKeyFile {
  std::string name, file, pem;
};
/// By name.
std::vector<KnownKeyFile> load_keys(os::FileReader& root);
/// Throws Error{Refused} for a name that is taken, Error{Usage} for a bad one.
void add_key(os::FileSystem& root, const std::string& name, const std::string& pem);
/// Throws Error{NotFound}.
void drop_key(os::FileSystem& root, const std::string& name);

}  // namespace hambrel::settings
