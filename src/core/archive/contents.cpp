#include "archive/contents.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"

namespace hambrel::archive {

Contents::Contents(Table table)
    : frames_(std::move(table.frames)),
      manifest_offset_(table.manifest_offset),
      manifest_size_(table.manifest_size),
      files_(FileList::of(table.entries)) {
  static_assert(kMostFrameBytes <= UINT32_MAX, "an offset in a frame is a small number");
  places_.reserve(table.entries.size());
  for (const Entry& entry : table.entries) places_.push_back({entry.frame, static_cast<std::uint32_t>(entry.offset)});
}

Entry Contents::entry(std::size_t number) const {
  HAMBREL_ASSERT(number < places_.size(), "an entry of the package");
  return {files_.entry(number), places_[number].frame, places_[number].offset};
}

std::vector<std::string> privileged_files(const FileList& files) {
  constexpr std::uint32_t kSetIds = 06000;
  std::vector<std::string> paths;
  for (std::size_t i = 0; i < files.size(); ++i) {
    if (files.type(i) != EntryType::File) continue;
    const bool is_capable = files.has_attributes(i) && files.entry(i).attributes.contains("security.capability");
    if (is_capable || (files.facts(i).mode & kSetIds) != 0) paths.emplace_back(files.path(i));
  }
  return paths;
}

void require_named_privileges(const FileList& files, const Package& package, const std::string& where) {
  for (const std::string& path : privileged_files(files))
    if (std::find(package.privileged.begin(), package.privileged.end(), path) == package.privileged.end())
      throw Error(
          ErrorCode::Untrusted,
          fmt::format("/{} runs with elevated privileges, which the manifest does not declare", printable(path)), where,
          "do not use this file; have it built again with `hambrel pack`");
}

}  // namespace hambrel::archive
