// Where a package version is available, and what the state of a root knows of an installed one. Plain values.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "base/digest.h"
#include "model/package.h"

namespace hambrel {

/// Instead of the path of a local file: what was installed here before, and is kept.
inline constexpr std::string_view kInAttic = "attic", kInCache = "cache";

/// A place a package version can be had from.
struct Offer {
  std::string repository;  // its name; empty for a local file
  std::string channel;
  std::string local_path;                          // the package file on the host, for a local file; or kInAttic...
  std::uint32_t rank = 50;                         // of the repository: smaller is preferred
  bool enabled = true;                             // its repository is enabled
  bool followed = true;                            // its channel is one this root follows; false if not enabled
  ByteCount size = 0;                              // of the package file
  Digest digest;                                   // of the package file
  std::uint64_t table_offset = 0, table_size = 0;  // of its table of contents
  Digest table_digest;

  bool is_kept() const { return local_path == kInAttic || local_path == kInCache; }
  /// "skerry-harbour/stable", "attic", "cache", "local file", or "URL".
  std::string title() const;
};

enum class Reason { Wanted, PulledIn };
std::string_view text_of(Reason reason);  // "wanted", "pulled-in"
std::optional<Reason> reason_from(std::string_view text);

/// A package that is to stay in its version.
struct Hold {
  std::int64_t since = 0;
  std::int64_t until = 0;  // seconds; 0: until it is released
  std::string reason, user;
  bool operator==(const Hold&) const = default;
};

struct Installed {
  std::int64_t row = 0;  // of the state's packages table
  Reason reason = Reason::Wanted;
  std::string origin;  // as Offer::title() was then
  std::int64_t time = 0;
  Digest digest{};  // of the package file it came from
  std::optional<Hold> hold{};
};

}  // namespace hambrel
