#include "plan/held_back.h"

#include <fmt/format.h>

#include <algorithm>

#include "solve/obstacles.h"

namespace hambrel::plan {

namespace {

using solve::Cause;
using solve::Obstacle;

class Writer {
 public:
  explicit Writer(const Universe& universe) : universe_(universe) {}

  std::string text_of(const Obstacle& obstacle) const {
    if (obstacle.roots.empty())
      return fmt::format("{} would have to be held back for it", title(obstacle.instead.front()));
    std::string text = obstacle.in_place ? first_root(obstacle) : obstacle.roots.front().text(universe_);
    constexpr std::size_t kMost = 3;  // that are named
    const std::size_t more = obstacle.roots.size() - 1;
    for (std::size_t i = 1; i <= std::min(more, kMost); ++i) {
      const Cause& root = obstacle.roots[i];
      const bool is_unmet = root.kind == Cause::Kind::Requires;
      text +=
          (i == 1 ? "; also in the way: " : ", ") + (is_unmet ? root.text(universe_) : title(root.packages.front()));
    }
    if (more > kMost) text += fmt::format(" and {} more", more - kMost);
    return text;
  }

 private:
  std::string title(PackageId id) const { return fmt::format("{} {}", universe_.name(id), universe_.version(id)); }

  /// "saltdb 1.8-1 (held)"
  std::string standing(const Cause& root) const {
    const PackageId id = root.packages.front();
    switch (root.kind) {
      case Cause::Kind::Held: return title(id) + " (held)";
      case Cause::Kind::LeftAlone: return title(id) + " (excluded from this upgrade)";
      default: break;
    }
    return title(id) +
           (universe_.is_slot_offered(id) ? " (wanted)" : " (wanted, and no repository offers it any more)");
  }

  std::string first_root(const Obstacle& obstacle) const {
    const std::string who = standing(obstacle.roots.front());
    if (obstacle.unmet) return fmt::format("{} requires {}", who, universe_.text(*obstacle.unmet));
    if (!obstacle.against) return who + " is in the way";
    const std::string other = title(*obstacle.against);
    if (obstacle.needs) return fmt::format("{} stays, but {} requires {}", who, other, universe_.text(*obstacle.needs));
    return fmt::format("{} conflicts with {}", obstacle.by_old ? who : other, obstacle.by_old ? other : who);
  }

  const Universe& universe_;
};

}  // namespace

void explain_held_back(const Universe& universe, const solve::Selection& selection, std::vector<HeldBack>& held_back) {
  if (!selection.obstacles) return;
  std::vector<PackageId> left_behind;
  std::vector<HeldBack*> entries;
  for (HeldBack& one : held_back)
    if (!one.held) {
      left_behind.push_back(one.offered_id);
      entries.push_back(&one);
    }
  if (entries.empty()) return;
  const auto obstacles = selection.obstacles->explain(left_behind, selection.chosen);
  const Writer writer(universe);
  for (std::size_t i = 0; i < entries.size(); ++i) {
    if (!obstacles[i]) continue;
    entries[i]->why = writer.text_of(*obstacles[i]);
    entries[i]->by = obstacles[i]->roots.empty() ? std::string(universe.name(obstacles[i]->instead.front()))
                                                 : obstacles[i]->roots.front().name;
    entries[i]->together = obstacles[i]->together;
  }
}

}  // namespace hambrel::plan
