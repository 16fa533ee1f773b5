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
#include <thread>
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

  [[gnu::always_inline]] std::optional<Ids> find(std::size_t list) const {
    if (list >= size_) return std::nullopt;
    Entry& one = entries_.get()[list];
    if ((state_of(one) & kReady) == 0) return std::nullopt;
    return one.ids();
  }

  /// Was it kept as one that is marked?
  bool is_marked(std::size_t list) const { return list < size_ && (state_of(entries_.get()[list]) & kMarked) != 0; }

  /// `ids` lies somewhere that outlives this.
  Ids refer(std::size_t list, Ids ids) { return enter(list, ids, 0); }

  Ids keep(std::size_t list, Ids ids, bool marked = false) {
    const std::uint32_t mark = marked ? kMarked : kEmpty;
    if (list < size_ && ids.size() < 2) return enter(list, ids, mark);  // the entry itself has room for it
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
    return enter(list, {first, ids.size()}, mark);
  }

 private:
  static constexpr std::size_t kChunk = 4096;
  static constexpr std::uint32_t kEmpty = 0, kBegun = 1, kReady = 2, kMarked = 4;
  struct Entry {
    union {
      const PackageId* first;
      PackageId only;
    };
    std::uint32_t size, state;

    Ids ids() const { return {size == 1 ? &only : first, size}; }
  };

  static std::uint32_t state_of(Entry& one) { return std::atomic_ref(one.state).load(std::memory_order_acquire); }

  Ids enter(std::size_t list, Ids ids, std::uint32_t mark) {
    if (list >= size_) return ids;
    Entry& one = entries_.get()[list];
    std::uint32_t found = kEmpty;
    if (std::atomic_ref(one.state).compare_exchange_strong(found, kBegun, std::memory_order_acquire)) {
      one.size = static_cast<std::uint32_t>(ids.size());
      if (ids.size() == 1)
        one.only = ids.front();
      else
        one.first = ids.data();
      std::atomic_ref(one.state).store(kReady | mark, std::memory_order_release);
    }
    while ((state_of(one) & kReady) == 0) std::this_thread::yield();  // another has begun, and is about to end
    return one.ids();
  }

  std::unique_ptr<Entry, void (*)(void*)> entries_;
  std::size_t size_;
  std::vector<std::unique_ptr<PackageId[]>> chunks_;
  PackageId* next_ = nullptr;
  std::size_t room_ = 0;
  SpinLock lock_;
};

}  // namespace hambrel
