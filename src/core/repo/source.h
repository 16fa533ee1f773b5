// What the cache of a root knows of the indexes of one repository: var/cache/hambrel/index/NAME/source.json.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "os/file_system.h"
#include "repo/compiled.h"
#include "settings/settings.h"
#include "trust/documents.h"

namespace hambrel::repo {

inline constexpr const char* kIndexCache = "var/cache/hambrel/index";

struct Source {
  std::string url;
  std::uint64_t version = 0, packages = 0;
  std::int64_t fetched = 0;  // when it was last seen to be current, seconds
  std::uint64_t timestamp_version = 0;
  Digest digest, timestamp;                    // digest: of the index that its lines are those of
  Digest base;                                 // of the index that the cache has: the same, unless there are deltas
  std::vector<Digest> deltas{};                // what leads from that one to the other, in order
  std::string file;                            // what these files looked like when they were verified, see marks_of()
  std::optional<trust::Pointer> paths;         // the index of paths; nothing: the repository has none
  std::vector<trust::Pointer> paths_deltas{};  // what was added since it was made
  std::optional<trust::Pointer> advisories{}, news{}, recipes{};
  std::uint64_t root = 0;              // the number of the root document that it was verified by; 0: it was not
  std::string root_fingerprint{};      // of that document
  std::vector<std::string> signers{};  // ids of the keys that signed the list of targets
  bool accepted_unsigned = false;      // taken because its file said trust = "none" then
  // What the server said of the timestamp: asked with these, it does not send the same again. Empty: nothing.
  std::string etag{}, modified{}, validated_url{};
  std::int64_t roots_asked = 0;  // when the end of the chain of root documents was seen, seconds
  bool knows_paths = false;      // false: written by an older Hambrel, which did not look
};

/// var/cache/hambrel/index/REPOSITORY/NAME
std::string index_cache_file(const std::string& repository, const char* name);
/// Where the cache has an index of a repository. Its name tells its content, so that the next one lies beside it until
/// source.json, which names the digest, goes over from one to the other in one step. Programs before had another name.
std::string cached_index(os::FileReader& root, const std::string& repository, const Digest& digest);
/// Where it is put.
std::string new_cached_index(const std::string& repository, const Digest& digest);
/// Where the cache has a delta.
std::string cached_delta(const std::string& repository, const Digest& digest);
/// Where the cache has advisories, news or the list of recipes.
std::string cached_note(const std::string& repository, const Digest& digest);
/// Where it has those advisories by package, see advisory_index.h.
std::string cached_advisories(const std::string& repository, const Digest& digest);
/// Those that are not in use any more go, as far as that can be done.
void drop_other_indexes(os::FileSystem& root, const std::string& repository, const Source& used);
/// Tells whether a file was touched since, without reading it; empty: there is none.
std::string mark_of(os::FileReader& root, const std::string& path);
/// The same of the files of an index; empty: one is missing.
std::string marks_of(os::FileReader& root, const std::string& repository, const Source& source);
/// The index that the cache has, for the catalogue.
IndexInput cached_input(os::FileReader& root, const settings::Repository& repository, const Source& source);

/// Nothing if there is none, or if it is of another URL. Throws Error{Invalid} where it is damaged.
std::optional<Source> read_source(os::FileReader& root, const settings::Repository& repository);
void write_source(os::FileSystem& root, const settings::Repository& repository, const Source& source);

}  // namespace hambrel::repo
