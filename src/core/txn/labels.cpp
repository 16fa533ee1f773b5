#include "txn/labels.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/text.h"
#include "model/package.h"

namespace hambrel::txn {

namespace {

constexpr const char* kConfig = "etc/selinux/config";
constexpr std::uint64_t kMostPolicy = 32ULL << 20;  // bytes

/// "targeted" of the line SELINUXTYPE=targeted; empty: there is none.
std::string policy_name(os::FileReader& root) {
  constexpr std::string_view key = "SELINUXTYPE=";
  const std::string config = root.read_all(kConfig, 1 << 20);
  for (const std::string_view line : split(config, '\n')) {
    if (!line.starts_with(key)) continue;
    const std::string name(line.substr(key.size(), line.find_last_not_of(" \t\r") + 1 - key.size()));
    return !path_problem(name).empty() || name.find('/') != std::string::npos ? "" : name;
  }
  return "";
}

/// What the policy says of paths, with what was added for homes and by the administrator; empty: there is none.
std::string contexts(os::FileReader& root) {
  if (!root.stat_followed(kConfig)) return "";
  const std::string name = policy_name(root);
  std::string all;
  for (const char* part : {"", ".homedirs", ".local"}) {
    const std::string path = fmt::format("etc/selinux/{}/contexts/files/file_contexts{}", name, part);
    if (!name.empty() && root.stat_followed(path)) all += root.read_all(path, kMostPolicy) + "\n";
  }
  return all;
}

os::FileType type_of(const FileEntry& entry) {
  if (entry.type == EntryType::Directory) return os::FileType::Directory;
  return entry.type == EntryType::Symlink ? os::FileType::Symlink : os::FileType::Regular;
}

}  // namespace

Labels::Labels(os::FileReader& root, Observer& observer) : root_(root) {
  used_ = !label_at("etc").empty() || !label_at("usr").empty();
  if (!used_) return;
  try {
    if (const std::string all = contexts(root); !all.empty()) policy_ = std::make_unique<os::LabelPolicy>(all);
  } catch (const Error& problem) {
    observer.note(fmt::format("{}: {}; new files get the security labels of their directories", problem.where(),
                              problem.problem()));
  }
}

Labels::~Labels() = default;
Labels::Labels(Labels&&) noexcept = default;

std::string Labels::of(const FileEntry& entry) const {
  if (!used_) return "";
  if (policy_ != nullptr)
    if (std::string label = policy_->look_up("/" + entry.path, type_of(entry)); !label.empty())
      return label == "<<none>>" ? "" : label + '\0';
  std::string path = entry.path;
  while (!root_.stat(path)) path = os::parent_of(path);
  return label_at(path);
}

std::string Labels::label_at(std::string_view path) const {
  if (path.empty() || !root_.stat(path)) return "";
  const auto all = root_.attributes(path);
  const auto found = all.find(os::kLabelAttribute);
  return found == all.end() ? "" : found->second;
}

}  // namespace hambrel::txn
