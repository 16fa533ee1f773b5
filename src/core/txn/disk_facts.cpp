#include "txn/disk_facts.h"

namespace hambrel::txn {

using os::FileType;

namespace {

bool is_as(os::FileReader& root, os::Looker& looker, std::string_view path, const FileList::Facts& facts) {
  const auto info = looker.stat(path);
  if (!info) return false;
  switch (facts.type) {
    case EntryType::File:
      return info->type == FileType::Regular && info->size == facts.size && info->mode == facts.mode &&
             info->mtime_seconds == facts.mtime;
    case EntryType::HardLink: return info->type == FileType::Regular;
    case EntryType::Symlink: return info->type == FileType::Symlink && root.read_link(path) == facts.target;
    case EntryType::Directory: return info->type == FileType::Directory;
  }
  return false;
}

}  // namespace

bool as_recorded(os::FileReader& root, os::Looker& looker, const FileEntry& entry) {
  return is_as(root, looker, entry.path, {entry.type, entry.mode, entry.mtime, entry.size, entry.target});
}

bool as_recorded(os::FileReader& root, os::Looker& looker, const FileList& list, std::size_t number) {
  return is_as(root, looker, list.path(number), list.facts(number));
}

const Inheritance& Inheritances::of(std::string_view directory) {
  if (const auto known = known_.find(directory); known != known_.end()) return known->second;
  Inheritance own;
  const auto plain = directory.empty() ? std::nullopt : directories_.stat(directory);
  const bool direct = plain && plain->type == FileType::Directory;  // no link, so it need not be followed
  const bool followed = directory.empty() || (plain && plain->type == FileType::Symlink);
  const auto info = followed ? root_.stat_followed(directory) : plain;
  if (info && info->type == FileType::Directory)
    own = from(root_, *info, direct ? std::string(directory) : root_.physical(directory));
  else if (!directory.empty())
    own = of(os::parent_of(directory));
  return known_.emplace(directory, std::move(own)).first->second;
}

Inheritance Inheritances::from(os::FileReader& root, const os::FileInfo& directory, const std::string& path) {
  Inheritance own;
  if ((directory.mode & kSetGroup) != 0) own.group = directory.gid;
  const auto attributes = root.attributes(path);
  if (const auto acl = attributes.find("system.posix_acl_default"); acl != attributes.end())
    own.default_acl = acl->second;
  return own;
}

}  // namespace hambrel::txn
