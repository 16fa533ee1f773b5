#include "rehearsal/upper.h"

#include <algorithm>
#include <set>

namespace hambrel::rehearsal {

using os::FileType;

namespace {

os::ExtendedAttributes without_marks(os::ExtendedAttributes attributes) {
  std::erase_if(attributes, [](const auto& one) { return one.first.starts_with(overlay_marks()); });
  return attributes;
}

bool same_access(const os::FileInfo& a, const os::FileInfo& b) {
  return a.mode == b.mode && a.uid == b.uid && a.gid == b.gid;
}

}  // namespace

std::vector<Written> Upper::all() const {
  std::vector<Written> found;
  for (const std::string& name : root_.list(place_))
    look(os::join_path(view_.top(), name), os::join_path(place_, name), false, found);
  return found;
}

void Upper::look(const std::string& path, const std::string& place, bool all_new, std::vector<Written>& found) const {
  const auto info = root_.stat(place);
  if (!info) return;
  switch (info->type) {
    case FileType::Directory: return look_at_directory(path, place, *info, all_new, found);
    case FileType::Regular:
    case FileType::Symlink:
      if (all_new || !is_unchanged(path, place, *info)) found.push_back({Written::Kind::File, path, place, *info});
      return;
    case FileType::Other: break;
  }
  if (!root_.is_whiteout(place))
    found.push_back({Written::Kind::Strange, path, place, *info});
  else if (!all_new && view_.place_of(path))
    found.push_back({Written::Kind::Gone, path, place, *info});
}

void Upper::look_at_directory(const std::string& path, const std::string& place, const os::FileInfo& info, bool all_new,
                              std::vector<Written>& found) const {
  const auto before = all_new ? std::nullopt : view_.stat(path);
  const bool was_directory = before && before->type == FileType::Directory;
  if (!was_directory)
    found.push_back({Written::Kind::Directory, path, place, info});
  else if (!same_access(*before, info))
    found.push_back({Written::Kind::Attributes, path, place, info});
  const std::vector<std::string> names = root_.list(place);
  for (const std::string& name : names)
    look(os::join_path(path, name), os::join_path(place, name), !was_directory, found);
  if (!was_directory || !root_.attributes(place).contains(std::string(overlay_marks()) + "opaque")) return;
  for (const std::string& name : names_before(path))
    if (!std::binary_search(names.begin(), names.end(), name))
      found.push_back({Written::Kind::Gone, os::join_path(path, name), {}, {}});
}

/// Names in a directory as it was: of the view and of what that lies over.
std::vector<std::string> Upper::names_before(const std::string& path) const {
  std::set<std::string> names;
  const auto add = [&](const std::string& directory) {
    if (const auto info = root_.stat(directory); info && info->type == FileType::Directory)
      for (const std::string& name : root_.list(directory))
        if (view_.place_of(os::join_path(path, name))) names.insert(name);
  };
  add(path);
  if (const auto place = view_.place_of(path); place && *place != path) add(*place);
  return {names.begin(), names.end()};
}

/// A file that was opened to write is in the upper layer, whether anything was written or not.
bool Upper::is_unchanged(const std::string& path, const std::string& place, const os::FileInfo& info) const {
  const auto before_place = view_.place_of(path);
  const auto before = before_place ? root_.stat(*before_place) : std::nullopt;
  if (!before || before->type != info.type || !same_access(*before, info)) return false;
  if (info.type == FileType::Symlink) return root_.read_link(place) == root_.read_link(*before_place);
  return info.size == before->size &&
         without_marks(root_.attributes(place)) == without_marks(root_.attributes(*before_place)) &&
         root_.digest(place) == root_.digest(*before_place);
}

void remove_marks(os::FileSystem& root, const std::string& place) {
  for (const auto& [name, value] : root.attributes(place))
    if (name.starts_with(overlay_marks())) root.remove_attribute(place, name);
  if (const auto info = root.stat(place); info && info->type == FileType::Directory)
    for (const std::string& name : root.list(place)) remove_marks(root, os::join_path(place, name));
}

}  // namespace hambrel::rehearsal
