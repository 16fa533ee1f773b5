// Content of packages that come which is in the root already, where it need not be fetched: in a version that leaves,
// under whatever name, or in the attics of the last transactions.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "archive/contents.h"
#include "os/file_system.h"
#include "state/state.h"
#include "txn/kept.h"
#include "txn/tree_change.h"

namespace hambrel::operations {

/// What is read once is known to the next call on the same plan.
class ContentHere {
 public:
  ContentHere(os::FileReader& root, const state::State& state, std::vector<std::int64_t> leaving)
      : root_(root), state_(state), leaving_(std::move(leaving)) {}

  /// Gives puts of these packages (by entering one; nullptr: it need not be fetched) a source in the root, where all
  /// that a frame is needed for has one. What lies there is read now, so that it is known to be what was recorded.
  void use(txn::TreeChange& tree, const std::vector<const archive::Contents*>& fetched, unsigned workers);

 private:
  struct Wanted {
    txn::Put* put;
    std::size_t entry;
    std::string kept{}, same{};
    bool is_here() const { return !kept.empty() || !same.empty(); }
  };
  void find(std::vector<Wanted>& wanted, unsigned workers);
  void index_leaving(const std::vector<std::vector<Wanted>>& wanted);

  os::FileReader& root_;
  const state::State& state_;
  const std::vector<std::int64_t> leaving_;  // rows in the state
  std::optional<txn::Kept> attics_;
  std::map<Digest, std::vector<std::string>> paths_;   // of regular files that leave, configuration aside
  std::map<std::string, std::optional<Digest>> read_;  // what was found at a path
};

}  // namespace hambrel::operations
