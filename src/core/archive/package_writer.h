// Writing a package file from a source tree. The same tree gives the same bytes, whoever builds it and where:
// entries in the order of their paths, owners by name (root unless package.toml says otherwise), times in whole
// seconds and not after the given limit.
#pragma once

#include <cstdint>
#include <functional>

#include "archive/signatures.h"
#include "archive/table.h"
#include "base/observer.h"
#include "model/manifest.h"
#include "os/file_system.h"

namespace hambrel::archive {

struct WriteOptions {
  int level = 9;                  // of zstd, 1 to 19
  std::int64_t latest_mtime = 0;  // seconds; later times are set back to it; 0: no limit
  unsigned threads = 2;
  std::string built{};  // a JSON object: how it was built from source; empty: nobody says
  std::function<std::vector<PackageSignature>(const Digest& table)> sign{};  // nothing: nobody signs it
};

struct WrittenPackage {
  Package package;
  std::uint64_t size = 0;  // of the package file, bytes
  Digest digest;           // of the package file
};

/// Reads `root_path` in `source` as the files of the package; writes everything to `into`.
/// Throws Error{Invalid} by name for what can't go into a package: device nodes, names that are not UTF-8, links out
/// of the root, configuration globs that match nothing, files that change while they are read.
WrittenPackage write_package(os::FileReader& source, std::string_view root_path, const PackageSource& description,
                             os::WritableFile& into, const WriteOptions& options, Observer& observer);
/// The same of entries that are known, ascending by path, all but their digests and places: files are read below
/// `root_path`.
WrittenPackage write_entries(os::FileReader& source, std::string_view root_path, const Package& package,
                             std::vector<Entry> entries, os::WritableFile& into, const WriteOptions& options,
                             Observer& observer);

}  // namespace hambrel::archive
