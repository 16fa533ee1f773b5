#include "txn/attic_check.h"

#include <fmt/format.h>

#include "base/assert.h"
#include "txn/undo.h"

namespace hambrel::txn {

using os::FileType;
using state::Move;

void require_files_known(const state::State& state, const state::StatePackage& package, std::int64_t row) {
  if (state.knows_files_of(row)) return;
  throw Error(ErrorCode::Refused,
              fmt::format("what {} contained is no longer known: the state was lost, and the package was not available"
                          " when it was recreated",
                          package.package.title()),
              {}, "another version may be available: hambrel downgrade " + package.package.name);
}

void AtticCheck::refuse_altered(const std::string& path) const {
  throw AtticAltered(fmt::format("the attic's copy of /{} was modified", path),
                     fmt::format("transaction {}", number(id_)));
}

std::optional<FileEntry> AtticCheck::entry_of(const std::string& path) {
  if (!known_) {
    known_.emplace();
    for (const state::PackageChange& change : changes_) {
      if (!change.after_row) continue;
      const auto& list = known_->lists.emplace_back(state_.files_of(*change.after_row));
      HAMBREL_ASSERT(list != nullptr, "there is a list of each, of no files at least");
      const auto which = static_cast<std::uint32_t>(known_->lists.size() - 1);
      for (std::size_t i = 0; i < list->size(); ++i)
        known_->places.emplace(list->path(i), std::pair(which, static_cast<std::uint32_t>(i)));
    }
  }
  const auto found = known_->places.find(path);
  if (found == known_->places.end()) return std::nullopt;
  return known_->lists[found->second.first]->entry(found->second.second);
}

void AtticCheck::require_unaltered(const Move& done, const os::FileInfo& there, const std::string& place,
                                   const std::string& path) {
  if (there.type == FileType::Regular) return require_content(done, there, place, path);
  if (there.type != FileType::Directory) return;
  for (const std::string& name : root_.list(place)) {
    const std::string child = os::join_path(place, name);
    if (const auto info = in_attic_.stat(child)) require_unaltered(done, *info, child, os::join_path(path, name));
  }
}

void AtticCheck::require_content(const Move& done, const os::FileInfo& info, const std::string& place,
                                 const std::string& path) {
  const auto put_away = std::pair(done.put_away_seconds, done.put_away_nanoseconds);
  const bool since = done.put_away_seconds == 0 || std::pair(info.changed_seconds, info.changed_nanoseconds) > put_away;
  if (!since) return;
  const auto entry = entry_of(path);
  const bool known = entry && entry->type == EntryType::File;
  const bool same = known && info.size == entry->size && root_.digest(place) == entry->digest;
  if (same) return;
  // What nobody knows the content of, edited or of nobody's, has at least its time.
  const bool older = done.put_away_seconds == 0 || std::pair(info.mtime_seconds, info.mtime_nanoseconds) <= put_away;
  if (!older || (known && !entry->config && info.mtime_seconds == entry->mtime)) refuse_altered(path);
}

}  // namespace hambrel::txn
