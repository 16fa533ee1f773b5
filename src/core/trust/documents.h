// What points to the index of a repository: three small signed documents in the shape of the TUF specification 1.0,
//   trust/timestamp.json -> trust/N.snapshot.json -> trust/N.targets.json -> index/full-N.jsonl.zst, index/files-N.zst
// each naming length and SHA-256 of the next. Of a repository without a root document "signatures" is empty.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

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
  bool has_digest = true;  // else, as TUF allows of documents, only its number and signatures tell that it is the one
};

/// What leads from number `from` to number `version`.
struct Delta : Pointer {
  std::uint64_t from = 0;
};

struct Metadata {
  std::string timestamp, snapshot, targets;  // the three documents
  std::string snapshot_path, targets_path;
};

/// What a targets document names.
struct Indexes {
  Pointer full;                       // the newest index of packages
  std::optional<Pointer> paths{};     // the newest index of paths; nothing: an older Hambrel published this
  std::vector<Delta> deltas{};        // what leads from older indexes of packages to newer ones, by number
  std::vector<Delta> paths_deltas{};  // what was added to the paths since their index was made, by number
  std::optional<Pointer> advisories{}, news{}, recipes{};
};

std::string index_path(std::uint64_t version);
std::string paths_path(std::uint64_t version);
std::string advisories_path(std::uint64_t version);
std::string news_path(std::uint64_t version);
std::string recipes_path(std::uint64_t version);
std::string delta_path(std::uint64_t from, std::uint64_t to);
std::string paths_delta_path(std::uint64_t from, std::uint64_t to);

/// One document after the other, each naming the text of the one before, signatures and all; nobody has signed them
/// yet. `expires` in seconds.
SignedDocument make_targets(std::uint64_t version, const Indexes& indexes, std::int64_t expires);
SignedDocument make_snapshot(std::uint64_t version, const std::string& targets, std::int64_t expires);
SignedDocument make_timestamp(std::uint64_t version, std::uint64_t snapshot_version, const std::string& snapshot,
                              std::int64_t expires);
/// All three of index number `version`, of a repository that is not signed. `now` in seconds sets the expiry.
Metadata make_metadata(std::uint64_t version, const Indexes& indexes, std::int64_t now);
std::string snapshot_path(std::uint64_t version);
std::string targets_path(std::uint64_t version);
/// Where a file of a repository lies, too, so that its name tells its content (consistent snapshots of TUF):
/// index/DIGEST.NAME.
std::string path_by_digest(const Pointer& file);

/// The one document that a timestamp or snapshot names; Error{Invalid} if it names none.
Pointer read_pointer(std::string_view text, std::string_view type, const std::string& where);
/// The number of a document.
std::uint64_t version_of(std::string_view text, const std::string& where);
Indexes read_indexes(std::string_view text, const std::string& where);
/// Throws Error{Untrusted} unless the content has the length and digest it must have, as far as they are known.
void check_content(std::string_view content, const Pointer& pointer, const std::string& where);

}  // namespace hambrel::trust
