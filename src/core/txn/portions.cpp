#include "txn/portions.h"

#include <algorithm>

#include "base/assert.h"

namespace hambrel::txn {

std::vector<UnpackJob> jobs_of(const TreeChange& change, const std::vector<Source>& sources) {
  std::vector<std::vector<std::pair<std::size_t, const Put*>>> found(sources.size());
  for (const Put& put : change.puts) {
    if (!put.is_unpacked()) continue;
    HAMBREL_ASSERT(put.package < sources.size() && sources[put.package].reader != nullptr, "its package is at hand");
    const auto number = sources[put.package].reader->contents().files().find(put.path_in_package());
    HAMBREL_ASSERT(number, "what is put is in its package");
    found[put.package].emplace_back(*number, &put);
  }
  std::vector<UnpackJob> wanted(sources.size());
  for (std::size_t i = 0; i < sources.size(); ++i) {
    std::sort(found[i].begin(), found[i].end());
    wanted[i].entries.reserve(found[i].size());
    wanted[i].puts.reserve(found[i].size());
    for (const auto& [number, put] : found[i]) {
      wanted[i].entries.push_back(number);
      wanted[i].puts.push_back(put);
    }
  }
  return wanted;
}

std::vector<Portion> portions_of(const std::vector<Source>& sources, const std::vector<UnpackJob>& wanted,
                                 unsigned workers) {
  constexpr ByteCount kLeast = 1 << 20, kMost = 16 << 20;
  constexpr ByteCount kOfAFile = 32 << 10;                    // making one takes as long as unpacking so many bytes
  std::vector<std::vector<ByteCount>> costs(sources.size());  // of unpacking and making each
  ByteCount left = 0;
  for (std::size_t i = 0; i < sources.size(); ++i) {
    const auto* const contents = wanted[i].entries.empty() ? nullptr : &sources[i].reader->contents();
    std::uint64_t unpacked = 0;  // of the frame that was begun last
    std::size_t begun = SIZE_MAX;
    for (const std::size_t number : wanted[i].entries) {
      const auto [frame, offset] = contents->place(number);
      if (frame != begun) {
        begun = frame;
        unpacked = 0;
      }
      const std::uint64_t end = offset + contents->files().content_size(number);
      costs[i].push_back(end - std::min<std::uint64_t>(unpacked, offset) + kOfAFile);
      unpacked = end;
      left += costs[i].back();
    }
  }
  std::vector<Portion> portions;
  for (std::size_t i = 0; i < sources.size(); ++i) {
    if (wanted[i].entries.empty()) continue;
    const archive::PackageReader& reader = *sources[i].reader;
    Portion portion{i, 0, 0, 0};
    ByteCount size = 0;
    for (std::size_t k = 0; k < wanted[i].entries.size(); ++k) {
      const std::size_t entry = wanted[i].entries[k];
      if (size >= std::clamp(left / (4 * workers), kLeast, kMost) && reader.begins_after(entry, portion.end)) {
        portions.push_back(portion);
        portion = {i, k, k, 0};
        left -= size;
        size = 0;
      }
      portion.last = k + 1;
      portion.end = std::max(portion.end, reader.end_of(entry));
      size += costs[i][k];
    }
    portions.push_back(portion);
    left -= size;
  }
  HAMBREL_ASSERT(left == 0, "all that is wanted is in one of them");
  return portions;
}

bool Portions::empty() const {
  const std::lock_guard lock(mutex_);
  return left_.empty();
}

std::optional<Portion> Portions::take() {
  const std::lock_guard lock(mutex_);
  const auto ready = std::find_if(left_.begin(), left_.end(), [&](const Portion& one) {
    return one.end <= sources_[one.source].reader->arrived();
  });
  if (ready == left_.end()) return std::nullopt;
  const Portion taken = *ready;
  HAMBREL_ASSERT(taken.first < taken.last, "a portion is of something");
  left_.erase(ready);
  return taken;
}

}  // namespace hambrel::txn
