#include "rehearsal/view.h"

#include "base/assert.h"
#include "os/host.h"

namespace hambrel::rehearsal {

using os::FileType;

std::string_view overlay_marks() { return os::is_superuser() ? "trusted.overlay." : "user.overlay."; }

View::View(os::FileSystem& root, std::string top, std::string place)
    : root_(root), top_(std::move(top)), place_(std::move(place)), in_stage_(root), in_view_(root) {
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
  if (put_.erase(path) > 0) return root_.remove_file(in_view(path));
  if (!made_.contains(path)) return;
  in_view_.forget();
  root_.remove_tree(in_view(path));
  const auto below = [&](const std::string& one) { return one == path || os::is_below(one, path); };
  std::erase_if(made_, below);
  std::erase_if(put_, below);
  std::erase_if(whole_, [&](const auto& one) { return below(one.first); });
}

void View::put(const std::string& staged, const std::string& path) {
  const std::string at = in_view(path);
  in_stage_.of(staged).make_hard_link(os::name_of(staged), in_view_.of(at), os::name_of(at));
  put_.insert(path);
}

/// The mark leads from a directory of this layer to another path of the layers below it, which show the stage, too.
void View::put_directory(const std::string& staged, const std::string& path, const os::FileInfo& info) {
  const std::string at = in_view(path);
  root_.make_directory(at, 0755);
  made_.insert(path);
  const bool marked = os::is_superuser();
  if (marked) whole_.emplace(path, staged);
  os::Metadata metadata;
  metadata.mode = info.mode;
  if (marked) metadata.owner = {info.uid, info.gid};
  metadata.attributes = root_.attributes(staged);
  if (marked)
    metadata.attributes[std::string(overlay_marks()) + "redirect"] =
        "/" + (top_.empty() ? staged : staged.substr(top_.size() + 1));
  metadata.mtime = info.mtime_seconds;
  if (!marked)
    for (const std::string& name : root_.list(staged)) {
      const std::string below = os::join_path(staged, name);
      const os::FileInfo one = root_.stat_present(below);
      if (one.type == FileType::Directory)
        put_directory(below, os::join_path(path, name), one);
      else
        put(below, os::join_path(path, name));
    }
  root_.set_metadata(at, metadata);
}

/// Without links on the way.
std::string View::physical(std::string_view path) {
  if (const auto parent = os::parent_of(path); parent != asked_ || answer_.empty()) {
    asked_ = parent;
    answer_ = root_.stat_followed(parent) ? root_.physical(asked_) : asked_;
  }
  return os::join_path(answer_, os::name_of(path));
}

void View::add(const state::Move& move, const std::string& staged) {
  const std::string path = physical(move.path);
  make_parents(path);
  switch (move.kind) {
    case state::MoveKind::Attributes:
      make_directory(path);
      if (os::is_superuser())
        root_.set_owner(in_view(path), move.attributes_change().after.uid, move.attributes_change().after.gid);
      return root_.set_mode(in_view(path), move.attributes_change().after.mode);
    case state::MoveKind::Remove:
      hide(path);
      root_.make_whiteout(in_view(path));
      put_.insert(path);
      return;
    case state::MoveKind::Place:
    case state::MoveKind::Exchange: {
      hide(path);
      const auto info = move.plain ? std::nullopt : root_.stat(staged);
      if (!info || info->type != FileType::Directory) return put(staged, path);
      put_directory(staged, path, *info);
      if (move.kind == state::MoveKind::Exchange && !whole_.contains(path))
        root_.set_attribute(in_view(path), std::string(overlay_marks()) + "opaque", "y");
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
  for (auto above = path; !above.empty(); above = os::parent_of(above))
    if (const auto found = whole_.find(above); found != whole_.end()) {
      std::string at = found->second + std::string(path.substr(above.size()));
      return root_.stat(at) ? std::optional(std::move(at)) : std::nullopt;
    }
  const std::string at = in_view(path);
  if (const auto info = root_.stat(at)) {
    const bool hides = info->type == FileType::Other && root_.is_whiteout(at);
    return hides ? std::nullopt : std::optional(at);
  }
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
