// Which packages an encoding is about: all that can be reached from what is installed and asked for.
#include <algorithm>
#include <atomic>
#include <mutex>
#include <thread>

#include "base/assert.h"
#include "base/parallel.h"
#include "solve/encoding.h"

namespace hambrel::solve {

bool Encoding::is_large() const {
  constexpr std::size_t kFewInstalled = 500;  // less is done before another thread has begun
  return !frozen() && !about_ && universe_.installed().size() > kFewInstalled;
}

/// Each package is reached once, by whichever thread is the first.
void Encoding::reach(PackageId id, Reached& reached) {
  const std::atomic_ref var(variables_[index_of(id)]);
  if (var.load(std::memory_order_relaxed) != kNone || !may_choose(id)) return;
  if (frozen() && slot_fixed(id)) return;
  if (var.exchange(kReached, std::memory_order_relaxed) != kNone) return;
  reached.all.push_back(id);
  reached.open.push_back(id);
}

/// By something that is given?
bool Encoding::is_met(RelationId relation, PackageId asking) const {
  if (!frozen()) return false;
  bool met = false;
  universe_.each_match(relation, [&](PackageId other) {
    met = met || (variables_[index_of(other)] == 0 && universe_.may_serve(other, asking));
  });
  return met;
}

void Encoding::reach_all(RelationId relation, PackageId asking, Reached& reached) {
  // many packages say the same; who may serve can depend on who asks
  if (universe_.one_class()) {
    const std::atomic_ref known(relations_reached_[static_cast<std::size_t>(relation)]);
    if (known.exchange(1, std::memory_order_relaxed) != 0) return;
  }
  if (is_met(relation, asking)) return;
  universe_.each_match(relation, [&](PackageId other) {
    if (universe_.may_serve(other, asking)) reach(other, reached);
  });
}

void Encoding::reach_from_installed(PackageId id, Reached& reached) {
  if (!frozen()) {
    reach(id, reached);
    for (const PackageId other : universe_.slot(id)) reach(other, reached);
    for (const PackageId other : universe_.replacers_of(id)) reach(other, reached);
  } else if (variables_[index_of(id)] != 0) {
    reach(id, reached);
    if (request_.means(request_.upgrade, universe_, id))
      for (const PackageId other : universe_.slot(id)) reach(other, reached);
  } else if (!fixed_is_sound_) {
    for (const RelationId relation : universe_.relations(id, RelationList::Requires)) reach_all(relation, id, reached);
  }
}

void Encoding::reach_what_follows(Reached& reached) {
  while (!reached.open.empty()) {
    const PackageId id = reached.open.back();
    reached.open.pop_back();
    for (const RelationId relation : universe_.relations(id, RelationList::Requires)) reach_all(relation, id, reached);
    if (request_.recommended && !universe_.is_installed(id))
      for (const RelationId relation : universe_.relations(id, RelationList::Recommends))
        reach_all(relation, id, reached);
  }
}

void Encoding::collect() {
  constexpr std::size_t kPortion = 500;
  constexpr unsigned kMostThreads = 4;
  const auto& installed = about();
  if (is_large()) universe_.expect_all();
  Reached asked;
  for (const Target& target : request_.install)
    for (const PackageId id : target.candidates) reach(id, asked);
  reach_what_follows(asked);
  cone_ = std::move(asked.all);
  std::mutex mutex;
  const unsigned threads = is_large() ? std::min(std::thread::hardware_concurrency(), kMostThreads) : 1;
  in_portions(installed.size(), threads, kPortion, [&](std::size_t first, std::size_t last) {
    Reached part;
    for (std::size_t i = first; i < last; ++i) reach_from_installed(installed[i], part);
    reach_what_follows(part);
    const std::lock_guard lock(mutex);
    cone_.insert(cone_.end(), part.all.begin(), part.all.end());
  });
  sort_cone();
}

/// Are the same packages to be had for a like request?
bool Encoding::may_choose_the_same(const Request& request) const {
  const auto& own = request_.install;
  return request.channels == request_.channels && request.recommended == request_.recommended &&
         request.upgrades_anything() == request_.upgrades_anything() &&
         std::equal(own.begin(), own.end(), request.install.begin(), request.install.end(),
                    [](const Target& a, const Target& b) { return a.candidates == b.candidates; });
}

/// Into the order of lists. Much of the base is quicker walked through than sorted: it lies in this order.
void Encoding::sort_cone() {
  constexpr std::size_t kMuch = 16;  // a cone of at least one in so many
  const std::size_t base = universe_.base().size();
  if (cone_.size() < base / kMuch) return universe_.sort(cone_);
  std::vector<PackageId> of_overlay;
  for (const PackageId id : cone_)
    if (index_of(id) >= base) of_overlay.push_back(id);
  universe_.sort(of_overlay);
  const std::size_t of_base = cone_.size() - of_overlay.size();
  cone_.clear();
  for (std::size_t i = 0; i < base && cone_.size() < of_base; ++i)
    if (variables_[i] == kReached) cone_.push_back(static_cast<PackageId>(i));
  HAMBREL_ASSERT(cone_.size() == of_base, "what was reached of the base is found again");
  cone_.insert(cone_.end(), of_overlay.begin(), of_overlay.end());
  const auto middle = cone_.begin() + static_cast<std::ptrdiff_t>(of_base);
  std::inplace_merge(cone_.begin(), middle, cone_.end(),
                     [&](PackageId a, PackageId b) { return universe_.place(a) < universe_.place(b); });
}

}  // namespace hambrel::solve
