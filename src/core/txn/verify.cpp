#include "txn/verify.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <functional>
#include <future>
#include <mutex>
#include <set>
#include <span>

#include "base/digests.h"
#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "os/neighbours.h"
#include "txn/owners.h"

namespace hambrel::txn {

using os::FileInfo;
using os::FileType;
using state::StatePackage;
using FindingKind = Finding::Kind;

std::string Finding::text() const {
  if (kind == FindingKind::Missing && !made_by.empty()) return "missing; made by " + made_by;
  switch (kind) {
    case FindingKind::Missing: return "missing";
    case FindingKind::Type: return "something else is there";
    case FindingKind::Content: return "content differs";
    case FindingKind::Mode: return fmt::format("mode is not {:04o}", entry.mode);
    case FindingKind::Owner: return fmt::format("owner is not {}:{}", entry.user, entry.group);
    case FindingKind::Target: return "points elsewhere";
    case FindingKind::Links: return "no longer hard-linked to its other names";
    case FindingKind::Attributes: return "extended attributes differ";
    case FindingKind::Edited: return "edited configuration";
    case FindingKind::Deleted: return "configuration, deleted by you";
    case FindingKind::Remade: return "made by " + made_by + ", changed since";
  }
  return {};
}

std::size_t Verified::damaged() const {
  return static_cast<std::size_t>(
      std::count_if(findings.begin(), findings.end(), [](const Finding& one) { return one.is_damage(); }));
}

namespace {

struct Task {
  const StatePackage* package;
  const FileList* list;
  std::size_t number;  // in the list
  bool shared;
};

/// What one thread needs.
class Inspector {
 public:
  Inspector(os::FileReader& root, const Owners& owners, Depth depth)
      : root_(root), looker_(root), owners_(owners), depth_(depth) {}

  using Found = std::function<void(const Task&, FindingKind)>;

  /// Looks at some of the tasks; `found` is called for what is wrong.
  void look_at(std::span<const Task> tasks, ByteCount& read, const Found& found) {
    for (const Task& task : tasks) {
      if (const auto kind = look_at(task, read)) found(task, *kind);
      if (unread_bytes_ >= kTogether) compare(found);
    }
    compare(found);
  }

 private:
  static constexpr ByteCount kTogether = 8 << 20, kMost = 2 << 20;  // contents in memory; one of them

  /// A content that is compared by its digest, together with others.
  struct Unread {
    const Task* task;
    Digest expected;
    std::string content;
    FindingKind if_other;
    std::optional<FindingKind> if_same;
  };

  void compare(const Found& found) {
    std::vector<std::span<const std::byte>> contents;
    for (const Unread& one : unread_) contents.push_back(std::as_bytes(std::span(one.content)));
    const std::vector<Digest> digests = sha256_of_each(contents);
    for (std::size_t i = 0; i < unread_.size(); ++i) {
      const Unread& one = unread_[i];
      const auto kind = digests[i] == one.expected ? one.if_same : std::optional(one.if_other);
      if (kind) found(*one.task, *kind);
    }
    unread_.clear();
    unread_bytes_ = 0;
  }

  /// What lies behind a link that others than root made is not the package's, however alike it is.
  bool is_reached(std::string_view directory) {
    if (directory != asked_) {
      asked_ = directory;
      reached_ = !root_.strange_link(asked_ + "/x");
    }
    return reached_;
  }

  /// Nothing for what is as it should be, or is left to compare().
  std::optional<FindingKind> look_at(const Task& task, ByteCount& read) {
    const FileEntry entry = task.list->entry(task.number);
    const auto info = is_reached(os::parent_of(entry.path)) ? looker_.stat(entry.path) : std::nullopt;
    const bool config = entry.config && entry.type == EntryType::File;
    if (!info) return config ? FindingKind::Deleted : FindingKind::Missing;
    switch (entry.type) {
      case EntryType::Directory: return directory(entry, *info, task.shared);
      case EntryType::Symlink:
        if (info->type != FileType::Symlink) return FindingKind::Type;
        if (root_.read_link(entry.path) != entry.target) return FindingKind::Target;
        return std::nullopt;
      case EntryType::HardLink: {
        const auto target = root_.stat(entry.target);
        if (target && target->inode != info->inode) return FindingKind::Links;
        return std::nullopt;
      }
      case EntryType::File: break;
    }
    if (info->type != FileType::Regular) return config ? FindingKind::Edited : FindingKind::Type;
    const FindingKind if_other = config ? FindingKind::Edited : FindingKind::Content;
    if (info->size != entry.size) return if_other;
    std::optional<FindingKind> if_same;
    if (!config) if_same = access(entry, *info);
    if (!config && !if_same && depth_ == Depth::Content && has_other_attributes(entry))
      if_same = FindingKind::Attributes;
    if (depth_ == Depth::Times && info->mtime_seconds == entry.mtime) return if_same;
    read += entry.size;
    if (sha256_lanes() == 1 || entry.size > kMost)
      return root_.digest(entry.path) == entry.digest ? if_same : std::optional(if_other);
    std::string content(entry.size, '\0');
    content.resize(root_.open_itself(entry.path)->read_at(0, std::as_writable_bytes(std::span(content))));
    unread_.push_back({&task, entry.digest, std::move(content), if_other, if_same});
    unread_bytes_ += entry.size;
    return std::nullopt;
  }

  std::optional<FindingKind> directory(const FileEntry& entry, const FileInfo& info, bool shared) {
    if (info.type == FileType::Symlink) {  // an administrator's link to a directory elsewhere does as well
      const auto behind = root_.stat_followed(entry.path);
      const bool followed = behind && behind->type == FileType::Directory && !root_.strange_link(entry.path + "/x");
      return followed ? std::nullopt : std::optional(FindingKind::Type);
    }
    if (info.type != FileType::Directory) return FindingKind::Type;
    return shared ? std::nullopt : access(entry, info);  // a shared one is as its first owner made it
  }

  std::optional<FindingKind> access(const FileEntry& entry, const FileInfo& info) const {
    constexpr std::uint32_t kSetGroupOfParent = 02000;  // a directory in a set-group-id one has it, too
    const std::uint32_t ignored = entry.type == EntryType::Directory ? kSetGroupOfParent : 0;
    if ((info.mode & ~ignored) != (entry.mode & ~ignored)) return FindingKind::Mode;
    try {
      const Owners::Numbers should = owners_.of(entry, "");
      const bool group_is_given = entry.group == "root";  // by a set-group-id directory
      if (info.uid != should.uid || (info.gid != should.gid && !group_is_given)) return FindingKind::Owner;
    } catch (const Error&) {
      return FindingKind::Owner;  // the root no longer knows the name
    }
    return std::nullopt;
  }

  bool has_other_attributes(const FileEntry& entry) {
    os::ExtendedAttributes here = root_.attributes(entry.path);
    std::erase_if(here, [](const auto& one) {  // packages bring no others
      return !one.first.starts_with("user.") && one.first != "security.capability";
    });
    return here != entry.attributes;
  }

  std::string asked_;  // what is_reached() was asked last, and its answer
  bool reached_ = true;
  os::FileReader& root_;
  os::Looker looker_;
  const Owners& owners_;
  Depth depth_;
  std::vector<Unread> unread_;
  ByteCount unread_bytes_ = 0;
};

/// What triggers made. It may be made again by anybody at any time; missing it should not be.
void look_at_made(os::FileReader& root, const state::State& state, const StatePackage& package,
                  std::vector<Finding>& findings) {
  if (package.package.actions == nullptr) return;
  os::Looker looker(root);
  for (const state::Generated& one : state.generated_by(package.package.name)) {
    const bool link = one.program == state::kCandidates;
    if (!one.by_trigger && !link) continue;
    const FileEntry& entry = one.entry;
    const auto info = looker.stat(entry.path);
    const bool changed =
        info && entry.type == EntryType::File &&
        (info->type != FileType::Regular || info->size != entry.size || root.digest(entry.path) != entry.digest);
    const bool elsewhere =
        link && info && (info->type != FileType::Symlink || root.read_link(entry.path) != entry.target);
    if (info && !changed && !elsewhere) continue;
    findings.push_back({info ? FindingKind::Remade : FindingKind::Missing, entry, package.row, package.package.name,
                        link ? "hambrel pick" : printable(one.program)});
  }
}

}  // namespace

Verified verify(os::FileReader& root, const state::State& state, const std::vector<StatePackage>& packages, Depth depth,
                unsigned workers, Observer& observer) {
  std::vector<std::shared_ptr<const FileList>> lists;
  std::vector<Task> tasks;
  ByteCount total = 0;
  for (const StatePackage& package : packages) {
    lists.push_back(state.files_of(package.row));
    std::vector<bool> shared(lists.back()->size());
    for (const std::size_t i : state.shared_files_of(package.row)) shared[i] = true;
    for (std::size_t i = 0; i < lists.back()->size(); ++i)
      tasks.push_back({&package, lists.back().get(), i, shared[i]});
    total += depth == Depth::Content ? package.package.installed_size : lists.back()->size();
  }
  const Owners owners(root);
  Verified result;
  result.files = static_cast<std::size_t>(std::count_if(
      tasks.begin(), tasks.end(), [](const Task& one) { return one.list->type(one.number) != EntryType::Directory; }));
  constexpr std::size_t kPortion = 256;
  std::atomic<std::size_t> next = 0;
  std::mutex telling;
  std::size_t looked_at = 0;
  observer.begin("verifying", total, depth == Depth::Content ? Observer::Unit::Bytes : Observer::Unit::Items);
  const auto work = [&] {
    Inspector inspector(root, owners, depth);
    for (std::size_t first = next.fetch_add(kPortion); first < tasks.size(); first = next.fetch_add(kPortion)) {
      std::vector<Finding> found;
      ByteCount read = 0;
      const std::size_t last = std::min(first + kPortion, tasks.size());
      inspector.look_at(std::span(tasks).subspan(first, last - first), read, [&](const Task& task, FindingKind kind) {
        found.push_back({kind, task.list->entry(task.number), task.package->row, task.package->package.name});
      });
      const std::lock_guard lock(telling);
      result.read += read;
      looked_at += last - first;
      std::move(found.begin(), found.end(), std::back_inserter(result.findings));
      observer.at(fmt::format("/{}", tasks[last - 1].list->path(tasks[last - 1].number)));
      observer.progress(depth == Depth::Content ? result.read : looked_at);
    }
  };
  const EndOfProgress end(observer);
  by_threads(tasks.size() > kPortion ? workers : 1, work);
  for (const StatePackage& package : packages) look_at_made(root, state, package, result.findings);
  std::sort(result.findings.begin(), result.findings.end(), [](const Finding& a, const Finding& b) {
    return std::tie(a.entry.path, a.package) < std::tie(b.entry.path, b.package);
  });
  return result;
}

}  // namespace hambrel::txn
