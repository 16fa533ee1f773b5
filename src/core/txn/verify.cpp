#include "txn/verify.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <future>
#include <mutex>
#include <set>

#include "base/error.h"
#include "os/neighbours.h"
#include "txn/owners.h"

namespace hambrel::txn {

using os::FileInfo;
using os::FileType;
using state::FileList;
using state::StatePackage;
using Kind = Finding::Kind;

std::string Finding::text() const {
  switch (kind) {
    case Kind::Missing: return "missing";
    case Kind::Type: return "something else stands there";
    case Kind::Content: return "other content";
    case Kind::Mode: return fmt::format("other mode than {:04o}", entry.mode);
    case Kind::Owner: return fmt::format("other owner than {}:{}", entry.user, entry.group);
    case Kind::Target: return "leads elsewhere";
    case Kind::Links: return "no longer one file with its other names";
    case Kind::Attributes: return "other extended attributes";
    case Kind::Edited: return "edited configuration";
    case Kind::Deleted: return "configuration, deleted by hand";
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

  std::optional<Kind> look_at(const Task& task, ByteCount& read) {
    const FileEntry entry = task.list->entry(task.number);
    const auto info = looker_.stat(entry.path);
    const bool config = entry.config && entry.type == EntryType::File;
    if (!info) return config ? Kind::Deleted : Kind::Missing;
    switch (entry.type) {
      case EntryType::Directory: return directory(entry, *info, task.shared);
      case EntryType::Symlink:
        if (info->type != FileType::Symlink) return Kind::Type;
        if (root_.read_link(entry.path) != entry.target) return Kind::Target;
        return std::nullopt;
      case EntryType::HardLink: {
        const auto target = root_.stat(entry.target);
        if (target && target->inode != info->inode) return Kind::Links;
        return std::nullopt;
      }
      case EntryType::File: break;
    }
    if (config) {
      const bool same = info->type == FileType::Regular && is_same_content(entry, *info, read);
      return same ? std::nullopt : std::optional(Kind::Edited);
    }
    if (info->type != FileType::Regular) return Kind::Type;
    if (!is_same_content(entry, *info, read)) return Kind::Content;
    if (const auto other = access(entry, *info)) return other;
    if (depth_ == Depth::Content && has_other_attributes(entry)) return Kind::Attributes;
    return std::nullopt;
  }

 private:
  std::optional<Kind> directory(const FileEntry& entry, const FileInfo& info, bool shared) {
    if (info.type == FileType::Symlink) {  // an administrator's link to a directory elsewhere does as well
      const auto behind = root_.stat_followed(entry.path);
      return behind && behind->type == FileType::Directory ? std::nullopt : std::optional(Kind::Type);
    }
    if (info.type != FileType::Directory) return Kind::Type;
    return shared ? std::nullopt : access(entry, info);  // a shared one is as its first owner made it
  }

  std::optional<Kind> access(const FileEntry& entry, const FileInfo& info) const {
    constexpr std::uint32_t kSetGroupOfParent = 02000;  // a directory in a set-group-id one has it, too
    const std::uint32_t ignored = entry.type == EntryType::Directory ? kSetGroupOfParent : 0;
    if ((info.mode & ~ignored) != (entry.mode & ~ignored)) return Kind::Mode;
    try {
      const Owners::Numbers should = owners_.of(entry, "");
      const bool group_is_given = entry.group == "root";  // by a set-group-id directory
      if (info.uid != should.uid || (info.gid != should.gid && !group_is_given)) return Kind::Owner;
    } catch (const Error&) {
      return Kind::Owner;  // the root no longer knows the name
    }
    return std::nullopt;
  }

  bool is_same_content(const FileEntry& entry, const FileInfo& info, ByteCount& read) {
    if (info.size != entry.size) return false;
    if (depth_ == Depth::Times && info.mtime_seconds == entry.mtime) return true;
    read += entry.size;
    return root_.digest(entry.path) == entry.digest;
  }

  bool has_other_attributes(const FileEntry& entry) {
    os::ExtendedAttributes here = root_.attributes(entry.path);
    std::erase_if(here, [](const auto& one) {  // packages bring no others
      return !one.first.starts_with("user.") && one.first != "security.capability";
    });
    return here != entry.attributes;
  }

  os::FileReader& root_;
  os::Looker looker_;
  const Owners& owners_;
  Depth depth_;
};

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
  constexpr std::size_t kPortion = 64;
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
      for (std::size_t i = first; i < last; ++i)
        if (const auto kind = inspector.look_at(tasks[i], read))
          found.push_back(
              {*kind, tasks[i].list->entry(tasks[i].number), tasks[i].package->row, tasks[i].package->package.name});
      const std::lock_guard lock(telling);
      result.read += read, looked_at += last - first;
      std::move(found.begin(), found.end(), std::back_inserter(result.findings));
      observer.progress(depth == Depth::Content ? result.read : looked_at);
    }
  };
  std::vector<std::future<void>> others;
  for (unsigned i = 1; i < workers && tasks.size() > kPortion; ++i)
    others.push_back(std::async(std::launch::async, work));
  std::exception_ptr problem;
  const auto keep = [&](const auto& run) {
    try {
      run();
    } catch (...) {
      if (!problem) problem = std::current_exception();
    }
  };
  keep(work);
  for (auto& other : others) keep([&] { other.get(); });
  observer.end();
  if (problem) std::rethrow_exception(problem);
  std::sort(result.findings.begin(), result.findings.end(), [](const Finding& a, const Finding& b) {
    return std::tie(a.entry.path, a.package) < std::tie(b.entry.path, b.package);
  });
  return result;
}

}  // namespace hambrel::txn
