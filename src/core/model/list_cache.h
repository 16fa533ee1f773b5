// Lists of packages by number, each worked out once: what answers to a relation, the versions of a name.
//
// The table is zero pages of the kernel's until something is entered, so that a run that asks for a hundred of a
// hundred thousand lists pays for a hundred. What was given out stays where it is as long as the cache does. Several
// threads may look and enter: of two that enter the same list, which have worked out the same, the first is kept.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstdint>
#include <cstdlib>
#include <memory>
#include <mutex>
#include <new>
#include <optional>
#include <span>
#include <vector>

#include "base/spin_lock.h"

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
    if (list >= size_) return std::nullopt;
    Entry& one = entries_.get()[list];
    if (std::atomic_ref(one.known).load(std::memory_order_acquire) == 0) return std::nullopt;
    return Ids(one.first, one.size);
  }

  /// `ids` lies somewhere that outlives this.
  Ids refer(std::size_t list, Ids ids) {
    const std::lock_guard lock(lock_);
    return enter(list, ids);
  }

  Ids keep(std::size_t list, const std::vector<PackageId>& ids) {
    const std::lock_guard lock(lock_);
    if (const auto known = find(list)) return *known;
    if (room_ < ids.size()) {
      room_ = std::max<std::size_t>(kChunk, ids.size());
      chunks_.push_back(std::make_unique_for_overwrite<PackageId[]>(room_));
      next_ = chunks_.back().get();
    }
    PackageId* const first = next_;
    std::copy(ids.begin(), ids.end(), first);
    next_ += ids.size();
    room_ -= ids.size();
    return enter(list, {first, ids.size()});
  }

 private:
  static constexpr std::size_t kChunk = 4096;
  struct Entry {
    const PackageId* first;
    std::uint32_t size, known;
  };

  Ids enter(std::size_t list, Ids ids) {
    if (list >= size_) return ids;
    Entry& one = entries_.get()[list];
    if (one.known != 0) return {one.first, one.size};
    one.first = ids.data();
    one.size = static_cast<std::uint32_t>(ids.size());
    std::atomic_ref(one.known).store(1, std::memory_order_release);
    return ids;
  }

  std::unique_ptr<Entry, void (*)(void*)> entries_;
  std::size_t size_;
  std::vector<std::unique_ptr<PackageId[]>> chunks_;
  PackageId* next_ = nullptr;
  std::size_t room_ = 0;
  SpinLock lock_;
};

}  // namespace hambrel
