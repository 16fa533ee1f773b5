// What a repository is to offer, read from its package files: the index, what leads to it from the one before, and the
// paths. What was read by an earlier publish and was not touched since is not read again (.publish/seen).
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/observer.h"
#include "model/package.h"
#include "os/file_system.h"
#include "repo/signing_round.h"
#include "trust/documents.h"

namespace hambrel::repo {

/// [[channel]] name = "beta", packages = ["lampdesk >= 6"]; the first rule that names a package counts, and what none
/// names is in "stable".
struct ChannelRule {
  std::string channel;
  std::vector<Constraint> packages;
};

/// The channel of a package version.
std::string channel_for(const std::string& name, const Version& version, const std::vector<ChannelRule>& rules);

/// repository.toml.
struct RepositorySettings {
  std::vector<ChannelRule> rules;
  trust::Validities validities;
  std::uint64_t keep = 0;  // versions of each package, channel and architecture that are offered; 0: all
};
/// Throws Error{Invalid} with file:line.
RepositorySettings read_repository_settings(os::FileReader& directory);

/// A file that is to be written, with what documents say of it.
struct MadeFile {
  std::string path, content;
};

struct Contents {
  trust::Indexes indexes;       // as documents are to name them; paths and numbers are those of index `version`
  std::vector<MadeFile> files;  // those that are not there yet
  bool as_served = false;       // nothing is new of packages: the indexes are those that are served
  bool notes_are_new = false;   // advisories, news or recipes
  std::size_t packages = 0;     // package versions
  std::size_t read = 0;         // package files that were read, as they are new or were touched
  std::vector<std::string> channels;
  std::vector<std::string> left_out;  // package files that `keep` leaves out, below the repository
  std::string seen;                   // of all these files, to be remembered once they are published
};

inline constexpr const char* kSeen = ".publish/seen";

/// `version`: the number that the index gets if anything is new. Throws Error naming the file for a
/// package that is damaged or does not lie where it belongs.
Contents read_contents(os::FileSystem& directory, const RepositorySettings& settings,
                       const std::optional<Documents>& served, std::uint64_t version, Observer& observer);

/// What is served already, to be signed anew: documents and the index share their number, so it gets the next one.
void renumber(os::FileReader& directory, Contents& contents, std::uint64_t version);

}  // namespace hambrel::repo
