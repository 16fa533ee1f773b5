// What points to the index of a repository: three small signed documents in the shape of the TUF specification 1.0,
//   trust/timestamp.json -> trust/N.snapshot.json -> trust/N.targets.json -> index/full-N.jsonl.zst, index/files-N.zst
// each naming length and SHA-256 of the next. Of a repository without a root document "signatures" is empty.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "base/digest.h"
#include "trust/signing.h"

namespace hambrel::trust {

inline constexpr const char* kTimestampPath = "trust/timestamp.json";
inline constexpr std::uint64_t kMostTimestampBytes = 64ULL << 10;
inline constexpr std::uint64_t kMostMetadataBytes = 4ULL << 20;
inline constexpr std::uint64_t kMostIndexBytes = 1ULL << 30;  // of one in the cache

/// A file that a document names.
struct Pointer {
  std::string path;  // below the repository
  std::uint64_t version = 0, length = 0;
  Digest digest;
};

struct Metadata {
  std::string timestamp, snapshot, targets;  // the three documents
  std::string snapshot_path, targets_path;
};

/// What a targets document names.
struct Indexes {
  Pointer full;                    // the newest index of packages
  std::optional<Pointer> paths{};  // the newest index of paths; nothing: an older Hambrel published this
};

std::string index_path(std::uint64_t version);
std::string paths_path(std::uint64_t version);

/// What documents are signed with.
struct Signing {
  const Root& root;
  const KeyRing& ring;
  std::uint64_t timestamp = 0;  // the number of the new timestamp
};

/// The documents for index number `version`. `now` in seconds sets the expiry. Throws what sign_as() throws.
Metadata make_metadata(std::uint64_t version, const Indexes& indexes, std::int64_t now,
                       const Signing* signing = nullptr);
/// A newer timestamp of the same snapshot.
std::string renewed_timestamp(std::string_view timestamp, std::int64_t now, const Signing& signing,
                              const std::string& where);

/// The one document that a timestamp or snapshot names; Error{Invalid} if it names none.
Pointer read_pointer(std::string_view text, std::string_view type, const std::string& where);
/// The number of a document.
std::uint64_t version_of(std::string_view text, const std::string& where);
Indexes read_indexes(std::string_view text, const std::string& where);
/// Throws Error{Untrusted} unless the content has the length and digest it must have.
void check_content(std::string_view content, const Pointer& pointer, const std::string& where);

}  // namespace hambrel::trust
