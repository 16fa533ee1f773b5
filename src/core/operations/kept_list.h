// What `list` says of everything that is installed, kept as the text that it is: looking that is done a hundred times
// a day should cost a read, not a search.
//
// Invariants: a cache and nothing else. The kept text is used only where the state, the catalogue, all settings that
// the text depends on and the version of the program are those that it was made from, no hold has ended since, and its
// sum is right; otherwise the packages are looked at, which gives the same text.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include "operations/root.h"

namespace hambrel::operations {

inline constexpr const char* kListFile = "var/cache/hambrel/index/_listing.image";

class KeptList {
 public:
  /// The text that an earlier run has kept, if it is still what would be said.
  static std::optional<KeptList> open(Root& root);
  /// After a change or a refresh, together with what else later runs need not work out. That it could not be kept is
  /// told. `text_of`: what is said of the packages of a universe.
  static void renew(Root& root, const std::function<std::string(const Universe&)>& text_of);
  std::string_view text() const { return text_; }

  // What these two are made of. `key`: what the text depends on. `now`, in seconds: no hold has ended by then.
  static std::optional<KeptList> open(os::FileReader& root, const std::string& key, std::int64_t now);
  /// Keeps the text of a universe. Throws Error{Io}.
  static void keep(os::FileSystem& root, const std::string& key, const Universe& universe, const std::string& text);

 private:
  KeptList(std::shared_ptr<const Bytes> file, std::string_view text) : file_(std::move(file)), text_(text) {}
  std::shared_ptr<const Bytes> file_;
  std::string_view text_;
};

}  // namespace hambrel::operations
