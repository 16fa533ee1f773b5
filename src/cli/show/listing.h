// What `list` says of everything that is installed, kept as the text that it is: looking that is done a hundred times
// a day should cost a read, not a search.
//
// Invariants: a cache and nothing else. The kept text is used only where the state, the catalogue, all settings that
// the text depends on and the version of the program are those that it was made from, no hold has ended since, and its
// sum is right; otherwise the packages are looked at, which gives the same text.
#pragma once

#include <memory>
#include <optional>

#include "cli/terminal/screen.h"
#include "model/universe.h"
#include "os/file_system.h"

namespace hambrel::cli {

inline constexpr const char* kListingFile = "var/cache/hambrel/index/_listing.image";

/// One line of `list`.
void add_listed(Table& table, const Universe& universe, PackageId id);

/// What the kept text depends on. `state`: state::identity_of().
std::string listing_key(const Layer& base, std::string_view state, const View& view);
/// Keeps the text of this universe. Throws Error{Io}.
void keep_listing(os::FileSystem& root, const std::string& key, const Universe& universe);

/// The kept text, if it belongs to this key.
class Listing {
 public:
  static std::optional<Listing> open(os::FileReader& root, const std::string& key, std::int64_t now);
  std::string_view text() const { return text_; }

 private:
  Listing(std::shared_ptr<const Bytes> file, std::string_view text) : file_(std::move(file)), text_(text) {}
  std::shared_ptr<const Bytes> file_;
  std::string_view text_;
};

}  // namespace hambrel::cli
