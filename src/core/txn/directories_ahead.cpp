#include "txn/directories_ahead.h"

#include <algorithm>

#include "base/error.h"
#include "base/parallel.h"
#include "os/host.h"
#include "os/neighbours.h"

namespace hambrel::txn {

DirectoriesAhead::DirectoriesAhead(os::FileReader& root, std::vector<SharedText> tops)
    : root_(root), tops_(std::move(tops)) {
  if (tops_.empty()) return;
  other_ = aside([this] { look(); });
}

DirectoriesAhead::~DirectoriesAhead() { enough_ = true; }  // the future waits for what was begun

void DirectoriesAhead::look() {
  os::Looker looker(root_);
  for (const SharedText& top : tops_) {
    if (enough_) return;
    try {
      const auto info = looker.stat(top);  // a link is not followed
      if (info && info->type == os::FileType::Directory) look_below(top.string());
    } catch (const Error&) {  // whoever asks about it looks itself, and is told
    }
  }
}

void DirectoriesAhead::look_below(const std::string& top) {
  constexpr std::size_t kMostNames = 400'000;  // held at once: somebody may have put millions of files there
  std::vector<std::string> left{top};
  while (!left.empty() && !enough_ && names_ < kMostNames) {
    const std::string path = std::move(left.back());
    left.pop_back();
    const auto directory = root_.look_into(path);
    if (directory == nullptr) continue;
    Entries entries = directory->entries();
    for (const os::DirectoryReader::Entry& one : entries)
      if (one.type == os::FileType::Directory) left.push_back(os::join_path(path, one.name));
    names_ += entries.size();
    found_.emplace(path, std::move(entries));
  }
}

void DirectoriesAhead::stop() {
  enough_ = true;
  if (other_.valid()) other_.get();
}

const DirectoriesAhead::Entries* DirectoriesAhead::in(const std::string& path) const {
  const auto found = found_.find(path);
  return found == found_.end() ? nullptr : &found->second;
}

/// What one thread found in directories that it looked into.
struct DirectoriesAhead::Found {
  std::vector<std::string> below{};     // directories
  std::vector<std::string> doubtful{};  // whoever asks knows more
  bool is_gone = false;                 // one was a directory a moment ago
};

void DirectoriesAhead::look_into(const std::string& path, const std::function<bool(std::string_view)>& surely,
                                 Found& found) const {
  Entries now;
  const Entries* known = in(path);
  if (known == nullptr) {
    const auto directory = root_.look_into(path);
    found.is_gone = found.is_gone || directory == nullptr;
    if (directory != nullptr) now = directory->entries();
    known = &now;
  }
  std::string child = os::join_path(path, "");
  const std::size_t start = child.size();
  for (const os::DirectoryReader::Entry& one : *known) {
    child.resize(start);
    child += one.name;
    if (!surely(child)) found.doubtful.push_back(child);
    if (one.type == os::FileType::Directory) found.below.push_back(child);
  }
}

bool DirectoriesAhead::all_below(const std::string& top, const std::function<bool(std::string_view)>& surely,
                                 const std::function<bool(const std::string&)>& perhaps) const {
  constexpr std::size_t kFew = 50;  // directories that are not worth a thread
  std::vector<std::string> level{top};
  while (!level.empty()) {
    std::vector<Found> found(level.size() / kFew + 1);
    in_portions(found.size(), os::processors(), 1, [&](std::size_t first, std::size_t last) {
      for (std::size_t i = first * kFew; i < std::min(last * kFew, level.size()); ++i)
        look_into(level[i], surely, found[i / kFew]);
    });
    level.clear();
    for (Found& one : found) {
      if (one.is_gone || !std::all_of(one.doubtful.begin(), one.doubtful.end(), perhaps)) return false;
      std::move(one.below.begin(), one.below.end(), std::back_inserter(level));
    }
  }
  return true;
}

}  // namespace hambrel::txn
