#include "txn/sides.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <span>

#include "base/assert.h"
#include "base/error.h"
#include "base/parallel.h"
#include "txn/disk_facts.h"

namespace hambrel::txn {

namespace {

[[noreturn]] void refuse(const std::string& what, std::string_view path, const std::string& hint) {
  throw Error(ErrorCode::Refused, what, "/" + std::string(path), hint);
}

/// May another package bring this? Directories, and what is alike in everything and belongs to no group of names.
bool may_share(const Coming& coming, const FileEntry& other) {
  if (other.type == EntryType::Directory) return coming.type() == EntryType::Directory;
  return other.type != EntryType::HardLink && !other.config && !coming.list->config(coming.number) &&
         coming.list->same(coming.number, other);
}

std::shared_ptr<const std::vector<FileList>> lists_of(const std::vector<Entering>& entering) {
  auto lists = std::make_shared<std::vector<FileList>>();
  for (const Entering& one : entering) lists->push_back(one.files);
  return lists;
}

template <typename Items>
void sort_by_path(Items& items) {
  const auto by_path = [](const auto& a, const auto& b) { return a.path < b.path; };
  if (!std::is_sorted(items.begin(), items.end(), by_path)) std::stable_sort(items.begin(), items.end(), by_path);
}

template <typename Items>
auto find(const Items& items, std::string_view path) {
  const auto found = std::lower_bound(items.begin(), items.end(), path,
                                      [](const auto& one, std::string_view wanted) { return one.path < wanted; });
  return found != items.end() && found->path == path ? &*found : nullptr;
}

}  // namespace

bool is_config(const Coming& coming) { return coming.list->config(coming.number) && coming.type() == EntryType::File; }
bool is_config(const Old& old) { return old.list->config(old.number) && old.type() == EntryType::File; }

Sides::Sides(os::FileReader& root, const state::State& state, const std::vector<state::StatePackage>& leaving,
             const std::vector<Entering>& entering, const TreeOptions& options)
    : root_(root),
      state_(state),
      leaving_(leaving),
      entering_(entering),
      coming_lists_(lists_of(entering)),
      options_(options) {
  read_old();
  read_coming();
  find_collisions();
  mark_unchanged();
}

const Old* Sides::old_at(std::string_view path) const { return find(old_, path); }
const Coming* Sides::coming_at(std::string_view path) const { return find(coming_, path); }

void Sides::read_old() {
  for (std::size_t i = 0; i < leaving_.size(); ++i) {
    const std::int64_t row = leaving_[i].row;
    leaving_rows_.insert(row);
    lists_.push_back(state_.files_of(row));
    const FileList& list = *lists_.back();
    if (options_.gone.contains(row)) {
      for (std::size_t k = 0; k < list.size(); ++k)
        if (list.type(k) == EntryType::Directory || (list.config(k) && list.type(k) == EntryType::File))
          old_.push_back({list.path(k), &list, k, i, state_.may_be_owned(list.path(k))});
      continue;
    }
    const auto some = options_.files_to_examine.find(row);
    if (some != options_.files_to_examine.end()) {
      for (const std::size_t k : some->second) old_.push_back({list.path(k), &list, k, i});
      for (Old& one : std::span(old_).last(some->second.size())) one.shared = state_.may_be_shared(one.path);
      continue;
    }
    const std::size_t first = old_.size();
    for (std::size_t k = 0; k < list.size(); ++k) old_.push_back({list.path(k), &list, k, i});
    for (const std::size_t k : state_.shared_files_of(row)) old_[first + k].shared = true;
  }
  sort_by_path(old_);
  const auto same_path = [](const Old& a, const Old& b) { return a.path == b.path; };
  old_.erase(std::unique(old_.begin(), old_.end(), same_path), old_.end());
}

void Sides::read_coming() {
  std::size_t count = 0;
  for (const FileList& list : *coming_lists_) count += list.size();
  coming_.reserve(count);
  for (std::uint32_t i = 0; i < coming_lists_->size(); ++i) {
    const FileList& list = (*coming_lists_)[i];
    for (std::uint32_t k = 0; k < list.size(); ++k) coming_.push_back({list.path(k), &list, k, i});
  }
  sort_by_path(coming_);
  const auto twins = [&](const Coming& first, const Coming& other) {
    if (first.path != other.path) return false;
    if (!may_share(other, first.entry()))
      refuse(fmt::format("both {} and {} have this file", name_of(first), name_of(other)), first.path,
             fmt::format("install only one of them, or ask their maintainers to rename the file in one"));
    return true;
  };
  coming_.erase(std::unique(coming_.begin(), coming_.end(), twins), coming_.end());
}

/// What comes, beside what was there and what others have (C1). Both stand by path.
void Sides::find_collisions() {
  auto before = old_.begin();
  for (Coming& coming : coming_) {
    while (before != old_.end() && before->path < coming.path) ++before;
    if (before != old_.end() && before->path == coming.path) {
      HAMBREL_ASSERT(coming.before == nullptr && !before->stays, "a path leaves once and comes once");
      coming.before = &*before;
      before->stays = true;
    }
    const auto owner = staying_owner_of(coming.path, coming.before);
    if (!owner) continue;
    coming.shared = true;
    if (!may_share(coming, owner->entry))
      refuse(fmt::format("{} has this file, which belongs to {}", name_of(coming), owner->package_name), coming.path,
             fmt::format("remove {} first, or leave out {}", owner->package_name, name_of(coming)));
  }
}

/// A package that has the path and does not leave. Asked for every path of a plan: most belong to what leaves and to
/// nobody else, or come into a directory that no package has.
std::optional<state::OwnedFile> Sides::staying_owner_of(std::string_view path, const Old* old) {
  if (old != nullptr) {
    if (!old->shared) return std::nullopt;
  } else {
    const auto directory = os::parent_of(path);
    if (!is_owned(directory)) return std::nullopt;
  }
  return state_.owner_of(path, leaving_rows_);
}

/// May a directory be some package's? Below one that is nobody's none is.
bool Sides::is_owned(std::string_view directory) {
  if (nobodys_ && (directory == *nobodys_ || os::is_below(directory, *nobodys_))) return false;
  if (directory.empty() || directory == owned_) return true;
  if (state_.may_be_owned(directory)) {
    owned_ = directory;
    return true;
  }
  const auto parent = os::parent_of(directory);
  if (is_owned(parent)) nobodys_ = directory;
  return false;
}

/// C2.
void Sides::mark_unchanged() {
  std::vector<const std::vector<std::uint8_t>*> ahead(leaving_.size(), nullptr);  // by leaving package
  for (std::size_t i = 0; i < leaving_.size() && options_.ahead; ++i) ahead[i] = options_.ahead->of(leaving_[i].row);
  std::vector<Coming*> alike;
  for (Coming& coming : coming_) {
    const Old* const before = coming.before;
    const bool same = before != nullptr && before->list->same(before->number, *coming.list, coming.number);
    if (same && ahead[before->package] != nullptr) {
      const auto& answers = *ahead[before->package];
      HAMBREL_ASSERT(before->number < answers.size(), "each file of its list was looked at");
      coming.unchanged = answers[before->number] != 0;
    } else if (same || (coming.shared && coming.type() != EntryType::Directory))
      alike.push_back(&coming);
  }
  in_portions(alike.size(), options_.workers, kFewLooks, [&](std::size_t first, std::size_t last) {
    os::Looker looker(root_);
    for (std::size_t i = first; i < last; ++i)
      alike[i]->unchanged = as_recorded(root_, looker, *alike[i]->list, alike[i]->number);
  });
  mark_hard_links();
}

/// All names of a hard-linked file are unchanged together, or none of them is.
void Sides::mark_hard_links() {
  std::map<std::pair<std::size_t, std::string_view>, bool> groups;  // by package and path of the file itself
  for (const Coming& coming : coming_)
    if (coming.type() == EntryType::HardLink)
      groups.emplace(std::pair(coming.package, coming.list->target(coming.number)), true);
  if (groups.empty()) return;
  const auto group_of = [&](const Coming& coming) {
    const bool link = coming.type() == EntryType::HardLink;
    return groups.find(std::pair(coming.package, link ? coming.list->target(coming.number) : coming.path));
  };
  for (const Coming& coming : coming_)
    if (const auto group = group_of(coming); group != groups.end()) group->second = group->second && coming.unchanged;
  for (Coming& coming : coming_)
    if (const auto group = group_of(coming); group != groups.end()) coming.unchanged = group->second;
}

}  // namespace hambrel::txn
