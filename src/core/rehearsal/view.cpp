#include "rehearsal/view.h"

#include "base/assert.h"
#include "os/host.h"
#include "os/overlay.h"

namespace hambrel::rehearsal {

using os::FileType;

std::string_view overlay_marks() { return os::is_superuser() ? "trusted.overlay." : "user.overlay."; }

View::View(os::FileSystem& root, std::string top, std::string place)
    : root_(root), top_(std::move(top)), place_(std::move(place)) {
  root_.make_directory(place_, 0700);
  made_.insert(top_);
  const auto info = root_.stat_followed(top_);
  HAMBREL_ASSERT(info.has_value(), "what a view lies over is there");
  if (os::is_superuser()) root_.set_owner(place_, info->uid, info->gid);
  root_.set_mode(place_, info->mode);
}

std::string View::in_view(std::string_view path) const {
  if (top_.empty()) return os::join_path(place_, path);
  HAMBREL_ASSERT(path == top_ || os::is_below(path, top_), "a view is of one file system");
  return path == top_ ? place_ : os::join_path(place_, path.substr(top_.size() + 1));
}

/// The directories above, as they are.
void View::make_parents(std::string_view path) {
  const auto parent = os::parent_of(path);
  if (made_.contains(parent)) return;
  make_parents(parent);
  make_directory(parent);
}

void View::make_directory(std::string_view path) {
  const std::string at = in_view(path);
  made_.emplace(path);
  if (root_.stat(at)) return;
  const auto info = root_.stat_followed(path);
  root_.make_directory(at, 0755);
  if (!info) return;
  os::Metadata metadata;
  metadata.mode = info->mode;
  if (os::is_superuser()) metadata.owner = {info->uid, info->gid};
  metadata.attributes = root_.attributes(path);
  metadata.mtime = info->mtime_seconds;
  root_.set_metadata(at, metadata);
}

void View::hide(const std::string& path) {
  const std::string at = in_view(path);
  const auto info = root_.stat(at);
  if (!info) return;
  if (info->type != FileType::Directory) return root_.remove_file(at);
  root_.remove_tree(at);
  std::erase_if(made_, [&](const std::string& one) { return one == path || os::is_below(one, path); });
}

void View::put(const std::string& staged, const std::string& path, const os::FileInfo& info) {
  const std::string at = in_view(path);
  if (info.type != FileType::Directory) return root_.make_hard_link(staged, at);
  root_.make_directory(at, 0755);
  made_.insert(path);
  for (const std::string& name : root_.list(staged)) {
    const std::string below = os::join_path(staged, name);
    put(below, os::join_path(path, name), *root_.stat(below));
  }
  os::Metadata metadata;
  metadata.mode = info.mode;
  if (os::is_superuser()) metadata.owner = {info.uid, info.gid};
  metadata.attributes = root_.attributes(staged);
  metadata.mtime = info.mtime_seconds;
  root_.set_metadata(at, metadata);
}

void View::add(const state::Move& move, const std::string& staged) {
  const auto parent = root_.stat_followed(os::parent_of(move.path))
                          ? root_.physical(std::string(os::parent_of(move.path)))
                          : std::string(os::parent_of(move.path));
  const std::string path = os::join_path(parent, os::name_of(move.path));
  make_parents(path);
  switch (move.kind) {
    case state::MoveKind::Attributes:
      make_directory(path);
      if (os::is_superuser()) root_.set_owner(in_view(path), move.after.uid, move.after.gid);
      return root_.set_mode(in_view(path), move.after.mode);
    case state::MoveKind::Remove: hide(path); return os::make_whiteout(root_, in_view(path));
    case state::MoveKind::Place:
    case state::MoveKind::Exchange: {
      hide(path);
      const auto info = root_.stat(staged);
      HAMBREL_ASSERT(info.has_value(), "what comes was staged");
      put(staged, path, *info);
      const bool replaces = move.kind == state::MoveKind::Exchange && info->type == FileType::Directory;
      if (replaces) root_.set_attribute(in_view(path), std::string(overlay_marks()) + "opaque", "y");
    }
  }
}

void View::need_directory(std::string_view path) {
  if (root_.stat_followed(path)) return;
  for (auto above = path; !above.empty(); above = os::parent_of(above))
    if (const auto info = root_.stat(above); info && info->type == FileType::Symlink) return;  // it leads nowhere
  make_parents(path);
  make_directory(path);
}

std::optional<std::string> View::place_of(std::string_view path) const {
  const std::string at = in_view(path);
  if (const auto info = root_.stat(at)) return os::is_whiteout(root_, at) ? std::nullopt : std::optional(at);
  // below something that hides what is there?
  for (auto above = os::parent_of(path); !above.empty() && above != top_; above = os::parent_of(above)) {
    const std::string over = in_view(above);
    const auto info = root_.stat(over);
    if (!info) continue;
    if (info->type != FileType::Directory) return std::nullopt;
    if (root_.attributes(over).contains(std::string(overlay_marks()) + "opaque")) return std::nullopt;
  }
  return root_.stat(path) ? std::optional(std::string(path)) : std::nullopt;
}

std::optional<os::FileInfo> View::stat(std::string_view path) const {
  const auto place = place_of(path);
  return place ? root_.stat(*place) : std::nullopt;
}

}  // namespace hambrel::rehearsal
