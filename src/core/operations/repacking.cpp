#include "operations/repacking.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "operations/select.h"
#include "repo/download.h"
#include "txn/tree_change.h"

namespace hambrel::operations {

namespace {

PackageId installed_one(Root& root, const std::string& name) {
  const Spec spec = parse_spec(name);
  select_installed(root, spec);  // says what is wrong with what is not installed
  std::vector<PackageId> ids = select(root, spec);
  std::erase_if(ids, [&](PackageId id) { return !root.universe().is_installed(id); });
  if (ids.size() == 1) return ids.front();
  throw Error(ErrorCode::Usage, fmt::format("{} are {} installed packages", printable(name), ids.size()), {},
              "name one of them, with its version: NAME=VERSION");
}

/// The entries of a package as they lie in the root now, and what differs from what was installed.
class Contents {
 public:
  Contents(Root& root, std::int64_t row) : root_(root.files()) {
    for (FileEntry& entry : root.state()->files_of(row)->entries()) look_at(std::move(entry));
  }
  std::vector<archive::Entry> entries_;
  std::vector<std::string> changed_;
  bool is_private_ = false;  // some of what was changed is not for everybody to read

 private:
  void look_at(FileEntry entry) {
    txn::require_way(root_, entry.path);  // nothing is packed that somebody else has led there
    const auto info = root_.stat(entry.path);
    const std::string path = "/" + entry.path;
    os::FileType expected = os::FileType::Regular;
    if (entry.type == EntryType::Directory) expected = os::FileType::Directory;
    if (entry.type == EntryType::Symlink) expected = os::FileType::Symlink;
    // what is gone, or something else now, is left out
    if (!info || info->type != expected) return changed_.push_back(path);
    bool same = true;
    if (entry.type == EntryType::File) {
      const Digest digest = root_.digest(entry.path);
      same = digest == entry.digest;
      if (!same) entry.mtime = std::max<std::int64_t>(0, info->mtime_seconds);
      entry.size = info->size;
    }
    if (entry.type == EntryType::Symlink) {
      const std::string target = root_.read_link(entry.path);
      same = target == entry.target;
      entry.target = target;
    }
    if (entry.type == EntryType::File || entry.type == EntryType::Directory) {
      same = same && info->mode == entry.mode;
      entry.mode = info->mode;
    }
    if (entry.type == EntryType::HardLink) {
      const auto target = root_.stat(entry.target);
      same = target && target->inode == info->inode && target->device == info->device;
      if (!same) {  // a file of its own by now
        entry.type = EntryType::File;
        entry.target.clear();
        entry.size = info->size;
        entry.mode = info->mode;
        entry.mtime = std::max<std::int64_t>(0, info->mtime_seconds);
      }
    }
    constexpr std::uint32_t kReadByAll = 0004;
    if (!same) changed_.push_back(path);
    is_private_ = is_private_ || (!same && entry.type == EntryType::File && (info->mode & kReadByAll) == 0);
    entries_.push_back(archive::Entry{std::move(entry)});
  }

  os::FileSystem& root_;
};

/// The file that was installed, if the cache has it.
std::unique_ptr<os::ReadableFile> original(Root& root, const state::StatePackage& package) {
  const std::string path = repo::cache_path(package.package);
  if (!root.files().stat(path) || root.files().digest(path) != package.digest) return nullptr;
  return root.files().open(path);
}

}  // namespace

Repacked repack(Root& root, const std::string& name, const PackRequest& request, Observer& observer) {
  require_state(root);
  const PackageId id = installed_one(root, name);
  const state::StatePackage package = root.state()->package(root.universe()[id].installed->row);
  if (package.package.name.starts_with(kGroup))
    throw Error(ErrorCode::Refused, "a group has no files: `hambrel publish` makes it from groups.toml", name);
  Contents found(root, package.row);
  Repacked result;
  result.changed = found.changed_;
  std::sort(result.changed.begin(), result.changed.end());
  Package packed = package.package;
  if (!result.changed.empty()) packed.version = Version::parse(packed.version.text() + "+modified").value();
  const auto whole = result.changed.empty() && request.keys.empty() ? original(root, package) : nullptr;
  PackRequest how = request;
  if (found.is_private_) how.mode = 0600;
  result.packed = pack_into(how, packed, [&](os::WritableFile& file, archive::WriteOptions options) {
    options.latest_mtime = 0;  // times are what they were
    if (!whole) return archive::write_entries(root.files(), "", packed, found.entries_, file, options, observer);
    if (os::copy_content(*whole, file, package.package.title()) != package.digest)
      throw Error(ErrorCode::Io, "changed while it was read", package.package.title(), "run the command again");
    return archive::WrittenPackage{packed, whole->size(), package.digest};
  });
  result.is_original = result.packed.written.digest == package.digest;
  return result;
}

}  // namespace hambrel::operations
