#include "txn/staging_homes.h"

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "model/package.h"

namespace hambrel::txn {

std::string existing_directory(os::FileReader& root, std::string_view path) {
  std::string at(path);
  while (!at.empty()) {
    const auto info = root.stat_followed(at);
    if (info && info->type == os::FileType::Directory) break;
    at = os::parent_of(at);
  }
  return at;
}

const SharedText& StagingHomes::of(std::string_view path) { return of_directory(os::parent_of(path)); }

const SharedText& StagingHomes::of_directory(std::string_view directory) {
  if (const auto known = by_directory_.find(directory); known != by_directory_.end()) return known->second;
  if (by_mount_.empty()) by_mount_[root_.stat_followed_present(existing_directory(root_, kHome)).mount] = kHome;
  auto info = directory.empty() ? std::nullopt : directories_.stat(directory);
  if (directory.empty() || (info && info->type == os::FileType::Symlink)) info = root_.stat_followed(directory);
  if (!info || info->type != os::FileType::Directory)  // to be made, on the file system of what it will stand in
    return by_directory_.emplace(directory, of_directory(os::parent_of(directory))).first->second;
  SharedText& home = by_mount_[info->mount];
  if (home.empty()) {
    std::string top = root_.physical(directory);
    while (!top.empty() && root_.stat_followed_present(os::parent_of(top)).mount == info->mount)
      top = os::parent_of(top);
    home = os::join_path(top, kForeignHome);
  }
  return by_directory_.emplace(directory, home).first->second;
}

namespace {

constexpr const char* kList = "var/lib/hambrel/homes";  // a line for each home on another mount that was ever used
constexpr std::uint64_t kMostList = 1 << 20;            // bytes

std::set<std::string> listed(os::FileReader& root) {
  std::set<std::string> homes;
  if (!root.stat(kList)) return homes;
  const std::string text = root.read_all(kList, kMostList);
  for (const std::string_view line : split(text, '\n'))
    if (os::name_of(line) == kForeignHome && path_problem(line).empty()) homes.emplace(line);
  return homes;
}

}  // namespace

void StagingHomes::remember(os::FileSystem& root, const std::set<std::string>& homes) {
  std::set<std::string> all = listed(root);
  const std::size_t known = all.size();
  for (const std::string& home : homes)
    if (home != kHome) all.insert(home);
  if (all.size() == known) return;
  std::string text;
  for (const std::string& home : all) text += home + "\n";
  root.replace_file(kList, text, 0600);
}

std::vector<std::string> StagingHomes::tops(os::FileReader& root) {
  std::vector<std::string> tops;
  const std::vector<std::string> mounted = root.mount_points();
  for (const std::string& home : listed(root))
    if (const std::string top(os::parent_of(home)); std::binary_search(mounted.begin(), mounted.end(), top))
      tops.push_back(top);
  return tops;
}

/// What is mounted there now may be anybody's: one that does not answer, or a directory that others could change under
/// our hands, is passed over.
std::vector<std::string> StagingHomes::all(os::FileReader& root) {
  std::vector<std::string> homes{kHome};
  const os::FileInfo own = root.stat_followed_present(existing_directory(root, kHome));
  for (const std::string& home : listed(root)) {
    try {
      const auto above = root.stat(os::parent_of(home)), info = root.stat(home);
      if (info && info->type == os::FileType::Directory && above && above->type == os::FileType::Directory &&
          info->uid == own.uid && (info->mode & 0022U) == 0)
        homes.push_back(home);
    } catch (const Error&) {  // not for us: a user's own mount, which the kernel keeps even root out of
    }
  }
  return homes;
}

}  // namespace hambrel::txn
