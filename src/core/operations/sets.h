// The set of packages of a root as one readable file: what is wanted, held, followed, picked and answered. Written from
// one root, carried out as one plan on another, or compared.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "operations/change.h"

namespace hambrel::operations {

struct PackageSet {
  std::vector<std::string> wanted;               // names, or NAME=VERSION
  std::map<std::string, std::string> installed;  // all of it: versions by name, several joined by ", "
  struct Held {
    std::int64_t until = 0;  // seconds; 0: for good
    std::string reason;
    bool operator==(const Held&) const = default;
  };
  std::map<std::string, Held> holds;
  std::map<std::string, std::string> follows;  // channels
  std::map<std::string, std::string> picks;    // by path: the file that serves it, both relative to the root
  std::map<std::string, std::map<std::string, std::string>> answers;  // no secrets
};

/// Of what is installed for the root's own architecture, and what fits every one.
PackageSet set_of(Root& root);
/// As TOML 1.0. `versions`: what is wanted is wanted in just these versions.
std::string text_of(const PackageSet& set, bool versions);
void write_set(const std::string& text, const std::string& file);
/// Of another root, where a directory is named; else of a file. Throws Error{NotFound}.
PackageSet set_at(const std::string& place, Observer& observer);
/// Throws Error{Invalid} with file:line.
PackageSet read_set(std::string_view text, const std::string& file);

/// Adds to a request all that the root lacks of it. `exact`: what is wanted here and not there goes, or counts as a
/// dependency where it is one there; what nothing needs any more goes, too. Throws as install does.
void ask_for(Root& root, const PackageSet& set, bool exact, ChangeRequest& request);

/// A fact that is not the same in two sets. Empty: it is not there.
struct SetDifference {
  enum class Kind { Package, Wanted, Hold, Channel, Pick, Answer };
  Kind kind = Kind::Package;
  std::string name, here, there;
};
std::string_view text_of(SetDifference::Kind kind);
std::vector<SetDifference> differences(const PackageSet& here, const PackageSet& there);

}  // namespace hambrel::operations
