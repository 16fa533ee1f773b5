// The advisories of a repository by the names of packages: an image beside them in the index cache, so that whoever
// asks about a few packages reads a few records.
//
// Invariants: it is a cache and nothing else. It is used only if it was made from exactly the advisories that the
// repository's index names, and whole; where there is none, or a damaged one, it is made in memory.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/image.h"
#include "model/advisory.h"
#include "os/file_system.h"
#include "repo/source.h"

namespace hambrel::repo {

class AdvisoryIndex {
 public:
  /// Of one repository; nothing where it has no advisories. Throws Error{Untrusted} where those are damaged.
  static std::optional<AdvisoryIndex> open(os::FileReader& root, const settings::Repository& repository);

  /// The records that name a package, in the order of the repository's list.
  std::vector<Advisory> about(std::string_view package) const;

  /// The image of a list of records, a JSON text with this digest. Throws Error{Invalid} naming `where` and the record.
  static std::string compile(std::string_view text, const Digest& digest, const std::string& where);
  /// Is the image in the cache sound, and of these?
  static bool is_stored(os::FileReader& root, const std::string& repository, const Digest& digest);

 private:
  explicit AdvisoryIndex(Image image) : image_(std::move(image)) {}
  static std::optional<Image> stored(os::FileReader& root, const std::string& repository, const Digest& digest);

  Image image_;
};

}  // namespace hambrel::repo
