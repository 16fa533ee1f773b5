// Making a repository from a directory: DIR/packages/NAME/VERSION.ARCH.hambrel, optionally DIR/repository.toml.
//
// Readers of the repository never see half of it: content comes first, the timestamp that names it last, each written
// beside its place and renamed. An index number is never used twice for different content.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/observer.h"
#include "os/file_system.h"
#include "repo/signing_round.h"

namespace hambrel::repo {

/// Marks a directory that is a part of another repository; its content comes from there.
inline constexpr const char* kSubset = ".publish/subset";

struct Published {
  std::uint64_t version = 0;  // of the index
  bool changed = false;
  bool renewed = false;           // only the timestamp
  std::uint64_t root = 0;         // the number of the root document that it is signed by; 0: it is not signed
  std::int64_t root_expires = 0;  // seconds
  std::string fingerprint, fingerprint_text;  // of the first root document, by which it is trusted; the same in groups
  std::size_t packages = 0;
  std::size_t read = 0;  // package files that were new, or touched since the last time
  std::vector<std::string> channels;
  std::vector<std::string> left_out{};  // package files, below the repository, that `keep` leaves out
  std::vector<std::string> promoted{};  // "lampdesk 6.0-1": versions that went to another channel
  std::size_t copied = 0;               // package files that came into a subset
  std::vector<std::string> deleted{};   // those that were left out a day ago already
  struct Role {
    std::string name;
    std::size_t threshold = 0;
    std::vector<std::string> keys;  // ids
  };
  std::vector<Role> roles{};        // of a root that was asked for: who signs from it on
  std::uint64_t asked_root = 0;     // its number
  std::vector<Unsigned> missing{};  // what has to be signed before anything new is served; empty: nothing waits
};

/// How a repository is to be signed.
struct PublishKeys {
  trust::KeyRing ring{};
  std::string where{};  // for messages: where the keys are from
  RootChange root{};
  // Without a look at packages:
  bool renew = false;              // only give the timestamp a new life, whatever waits
  bool finish = false;             // go on with what waits for signatures
  trust::Validities validities{};  // where repository.toml says nothing else
  std::string recipes{};           // the list of recipes (recipe_list.h) that is published with it; empty: none
};

/// `now` in seconds. Throws Error naming the file for a package that is damaged or does not lie where it belongs, and
/// Error{Refused} where there are keys that nothing asks for; nothing is published then. What lacks signatures waits
/// for them, see signing_round.h. What is signed and has less than half of its life left is signed anew.
Published publish(os::FileSystem& directory, std::int64_t now, Observer& observer, const PublishKeys& keys = {});

}  // namespace hambrel::repo
