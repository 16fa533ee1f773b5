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
  const solve::Names names = select_installed(root, parse_spec(name));
  std::vector<PackageId> ids;
  for (const PackageId id : root.universe().installed())
    if (names.contains(root.universe().name(id))) ids.push_back(id);
  if (ids.size() == 1) return ids.front();
  throw Error(ErrorCode::Usage, fmt::format("{} are {} installed packages", printable(name), ids.size()), {},
              "name one of them, with its version: NAME=VERSION");
}

/// The entries of a package as they lie in the root now, and what differs from what was installed.
class Found {
 public:
  Found(Root& root, std::int64_t row) : root_(root.files()) {
    for (FileEntry& entry : root.state()->files_of(row)->entries()) look_at(std::move(entry));
    std::erase_if(entries_, [&](const archive::Entry& one) {  // a link whose file is gone is none
      if (one.type != EntryType::HardLink) return false;
      const bool has_target = std::any_of(entries_.begin(), entries_.end(), [&](const archive::Entry& other) {
        return other.path == one.target && other.type == EntryType::File;
      });
      if (!has_target) changed_.push_back("/" + one.path);
      return !has_target;
    });
  }
  std::vector<archive::Entry> entries_;
  std::vector<std::string> changed_;

 private:
  void look_at(FileEntry entry) {
    txn::require_way(root_, entry.path);  // nothing is packed that somebody else has led there
    const auto info = root_.stat(entry.path);
    const std::string path = "/" + entry.path;
    const os::FileType expected = entry.type == EntryType::Directory ? os::FileType::Directory
                                  : entry.type == EntryType::Symlink ? os::FileType::Symlink
                                                                     : os::FileType::Regular;
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
    if (!same) changed_.push_back(path);
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
  Found found(root, package.row);
  Repacked result;
  result.changed = found.changed_;
  std::sort(result.changed.begin(), result.changed.end());
  Package packed = package.package;
  if (!result.changed.empty()) packed.version = Version::parse(packed.version.text() + "+modified").value();
  const auto whole = result.changed.empty() && request.keys.empty() ? original(root, package) : nullptr;
  result.packed = pack_into(request, packed, [&](os::WritableFile& file, archive::WriteOptions options) {
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
