// What a repository tells beside its packages: advisories/*.json (a record of the OSV schema each) and news.toml become
// signed files of the index.
#pragma once

#include "os/file_system.h"
#include "repo/publish_contents.h"

namespace hambrel::repo {

inline constexpr const char* kNewsFile = "news.toml";

/// Adds them to the contents; what is served already keeps its name. `version`: the number of what is new. Returns
/// whether anything is. `recipes`: see PublishKeys. Throws Error{Invalid} naming the file and what is wrong with it.
bool add_notes(os::FileReader& directory, const std::optional<Documents>& served, std::uint64_t version,
               const std::string& recipes, Contents& contents);

/// The files that they are made from, below the repository.
std::vector<std::string> note_files(os::FileReader& directory);

}  // namespace hambrel::repo
