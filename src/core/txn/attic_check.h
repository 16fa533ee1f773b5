// Whether what lies in the attic is still what a transaction put there.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "os/neighbours.h"
#include "state/state.h"

namespace hambrel::txn {

/// Before a package comes back: Error{Refused} by name where the state does not know what files it had.
void require_files_known(const state::State& state, const state::StatePackage& package, std::int64_t row);

/// For a time in which nothing is moved.
class AtticCheck {
 public:
  /// `changes`: of going back past transaction `id`; they must stay where they are.
  AtticCheck(os::FileSystem& root, const state::State& state, state::TxnId id,
             const std::vector<state::PackageChange>& changes)
      : root_(root), state_(state), id_(id), changes_(changes) {}

  /// Is what lies at `place`, which is `there`, and below it, what `done` took away from `path`? The kernel's time of
  /// its last change tells, which nobody can set; where that has moved on (another link to it was made, or somebody was
  /// there), only the content does. Throws AtticAltered.
  void require_unaltered(const state::Move& done, const os::FileInfo& there, const std::string& place,
                         const std::string& path);

 private:
  [[noreturn]] void refuse_altered(const std::string& path) const;
  void require_content(const state::Move& done, const os::FileInfo& info, const std::string& place,
                       const std::string& path);
  std::optional<FileEntry> entry_of(const std::string& path);

  os::FileSystem& root_;
  os::Looker in_attic_{root_};
  const state::State& state_;
  const state::TxnId id_;
  const std::vector<state::PackageChange>& changes_;
  /// What the packages that come back had at each path: looked up only where times do not tell.
  struct Known {
    std::vector<std::shared_ptr<const FileList>> lists;
    std::unordered_map<std::string_view, std::pair<std::uint32_t, std::uint32_t>> places;  // list, number in it
  };
  std::optional<Known> known_;
};

}  // namespace hambrel::txn
