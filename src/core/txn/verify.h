// Compares the disk with the state, and finds what would restore what differs.
//
// Configuration is the administrator's: what was edited or deleted there is told apart and is no damage. Times of files
// are no damage either: with Depth::Times a file whose size and time are right is taken to be whole, any other is read.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "base/observer.h"
#include "txn/transaction.h"

namespace hambrel::txn {

struct Finding {
  enum class Kind { Missing, Type, Content, Mode, Owner, Target, Links, Attributes, Edited, Deleted, Remade };
  Kind kind = Kind::Missing;
  FileEntry entry;  // as it should be
  std::int64_t package_row = 0;
  std::string package;
  std::string made_by{};     // what was run, where it is not the package's own file but was made by its trigger
  std::string text() const;  // what is wrong, in a few words
  bool is_damage() const { return kind < Kind::Edited; }
};

enum class Depth { Content, Times };

struct [[nodiscard]] Verified {
  std::vector<Finding> findings;  // by path
  std::size_t files = 0;          // that were looked at, directories aside
  ByteCount read = 0;             // bytes of content
  std::size_t damaged() const;
};

/// Looks at every file of the packages, by `workers` threads at once.
Verified verify(os::FileReader& root, const state::State& state, const std::vector<state::StatePackage>& packages,
                Depth depth, unsigned workers, Observer& observer);

/// Puts back what is damaged and nothing else: from the attic, or from what `file_of` knows for a package: an open
/// package file of just this version, or nullptr. What neither has is left as it is, and the plan says so.
[[nodiscard]] Planned plan_repair(os::FileReader& root, const state::State& state,
                                  const std::vector<state::StatePackage>& packages, const Verified& verified,
                                  const FileOf& file_of);

}  // namespace hambrel::txn
