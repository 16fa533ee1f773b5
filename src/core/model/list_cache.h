// Lists of packages by number, each worked out once: what answers to a relation, the versions of a name.
//
// The table is zero pages of the kernel's until something is entered, so that a run that asks for a hundred of a
// hundred thousand lists pays for a hundred. What was given out stays where it is as long as the cache does.
#pragma once

#include <cstdint>
#include <cstdlib>
#include <memory>
#include <new>
#include <optional>
#include <span>
#include <vector>

namespace hambrel {

enum class PackageId : std::uint32_t {};
using Ids = std::span<const PackageId>;

class ListCache {
 public:
  explicit ListCache(std::size_t lists)
      : entries_(static_cast<Entry*>(std::calloc(lists + 1, sizeof(Entry))), std::free), size_(lists) {
    if (!entries_) throw std::bad_alloc();
  }

  std::optional<Ids> find(std::size_t list) const {
    if (list >= size_ || entries_.get()[list].known == 0) return std::nullopt;
    return Ids(entries_.get()[list].first, entries_.get()[list].size);
  }

  /// `ids` lies somewhere that outlives this.
  Ids refer(std::size_t list, Ids ids) {
    if (list < size_) entries_.get()[list] = {ids.data(), static_cast<std::uint32_t>(ids.size()), 1};
    return ids;
  }

  Ids keep(std::size_t list, const std::vector<PackageId>& ids) {
    if (room_ < ids.size()) {
      room_ = std::max<std::size_t>(kChunk, ids.size());
      chunks_.push_back(std::make_unique_for_overwrite<PackageId[]>(room_));
      next_ = chunks_.back().get();
    }
    PackageId* const first = next_;
    std::copy(ids.begin(), ids.end(), first);
    next_ += ids.size();
    room_ -= ids.size();
    return refer(list, {first, ids.size()});
  }

 private:
  static constexpr std::size_t kChunk = 4096;
  struct Entry {
    const PackageId* first;
    std::uint32_t size, known;
  };

  std::unique_ptr<Entry, void (*)(void*)> entries_;
  std::size_t size_;
  std::vector<std::unique_ptr<PackageId[]>> chunks_;
  PackageId* next_ = nullptr;
  std::size_t room_ = 0;
};

}  // namespace hambrel
