// What leaves and what comes in a change, path by path, and who else has these paths: what planning a tree begins with.
//
// Both stand by path, so that they are compared in one pass. Texts are those of the lists, which have to be
// there as long as this is.
#pragma once

#include <memory>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "txn/tree_change.h"

namespace hambrel::txn {

/// A file of a package that leaves.
struct Old {
  std::string_view path;
  const FileList* list;
  std::size_t number;   // in the list
  std::size_t package;  // index into the leaving ones
  bool shared = false;  // packages that stay may have it, too
  bool stays = false;   // an entering package brings it
  EntryType type() const { return list->type(number); }
  FileEntry entry() const { return list->entry(number); }
};

/// A file of a package that enters.
struct Coming {
  std::string_view path;
  const FileList* list;
  std::uint32_t number;         // in the list
  std::uint32_t package;        // index into the entering ones
  const Old* before = nullptr;  // what the leaving packages had there
  bool shared = false;          // a package that stays has it, too
  bool unchanged = false;       // C2
  EntryType type() const { return list->type(number); }
  FileEntry entry() const { return list->entry(number); }
  PutEntry as_put() const { return {*list, number}; }
};

class Sides {
 public:
  /// Throws Error{Refused} by name for two packages that bring the same path (C1).
  Sides(os::FileReader& root, const state::State& state, const std::vector<state::StatePackage>& leaving,
        const std::vector<Entering>& entering, const TreeOptions& options);
  Sides(const Sides&) = delete;
  Sides& operator=(const Sides&) = delete;

  const std::vector<Old>& old() const { return old_; }
  const std::vector<Coming>& coming() const { return coming_; }
  /// By entering package: what coming() tells of points into them.
  const std::shared_ptr<const std::vector<FileList>>& lists() const { return coming_lists_; }
  /// nullptr: nothing does.
  const Old* old_at(std::string_view path) const;
  const Coming* coming_at(std::string_view path) const;
  /// A package that has the path and does not leave. `old`: what leaves there.
  std::optional<state::OwnedFile> staying_owner_of(std::string_view path, const Old* old);
  const std::string& name_of(const Coming& coming) const { return entering_[coming.package].package.name; }

 private:
  void read_old();
  void read_coming();
  void find_collisions();
  bool is_owned(std::string_view directory);
  void mark_unchanged();
  void mark_hard_links();

  os::FileReader& root_;
  const state::State& state_;
  const std::vector<state::StatePackage>& leaving_;
  const std::vector<Entering>& entering_;
  const std::shared_ptr<const std::vector<FileList>> coming_lists_;
  const TreeOptions& options_;
  std::set<std::int64_t> leaving_rows_;
  std::vector<std::shared_ptr<const FileList>> lists_;
  std::vector<Old> old_;
  std::vector<Coming> coming_;
  std::string owned_;                   // the directory that is_owned() said yes of last
  std::optional<std::string> nobodys_;  // the highest that it said no of last
};

/// Is it configuration of a kind that is treated as such?
bool is_config(const Coming& coming);
bool is_config(const Old& old);

}  // namespace hambrel::txn
