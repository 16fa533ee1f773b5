#include <algorithm>
#include <cstdint>

#include "plan/freed.h"

namespace hambrel::plan {

namespace {

constexpr std::uint32_t kNowhere = UINT32_MAX;

/// Numbers of installed packages in the order of Universe::installed(), by PackageId.
std::vector<std::uint32_t> numbers_of(const Universe& universe) {
  std::vector<std::uint32_t> numbers(universe.size(), kNowhere);
  for (std::uint32_t i = 0; i < universe.installed().size(); ++i) numbers[index_of(universe.installed()[i])] = i;
  return numbers;
}

/// Counts who stands on a package: whoever has a requirement that nothing else installed meets, and so on.
class Dependants {
 public:
  Dependants(const Universe& universe, const std::vector<std::uint32_t>& numbers)
      : meets_(universe.installed().size()) {
    for (std::uint32_t owner = 0; owner < universe.installed().size(); ++owner) {
      const PackageId id = universe.installed()[owner];
      for (const RelationId relation : universe.relations(id, RelationList::Requires)) {
        std::uint32_t met_by = 0;
        universe.each_match(relation, [&](PackageId other) {
          const std::uint32_t number = numbers[index_of(other)];
          if (number == kNowhere || !universe.may_serve(other, id)) return;
          meets_[number].push_back(static_cast<std::uint32_t>(requirements_.size()));
          ++met_by;
        });
        requirements_.push_back({owner, met_by});
      }
    }
    left_.resize(requirements_.size());
    seen_.resize(requirements_.size(), kNowhere);
    gone_.resize(meets_.size(), kNowhere);
  }

  std::size_t count(std::uint32_t package) {
    std::size_t count = 0;
    std::vector<std::uint32_t> stack{package};
    gone_[package] = package;
    while (!stack.empty()) {
      const std::uint32_t at = stack.back();
      stack.pop_back();
      for (const std::uint32_t requirement : meets_[at]) {
        if (seen_[requirement] != package) left_[requirement] = requirements_[requirement].met_by;
        seen_[requirement] = package;
        const std::uint32_t owner = requirements_[requirement].owner;
        if (--left_[requirement] > 0 || gone_[owner] == package) continue;
        gone_[owner] = package;
        stack.push_back(owner);
        ++count;
      }
    }
    return count;
  }

 private:
  struct Requirement {
    std::uint32_t owner = 0, met_by = 0;
  };
  std::vector<Requirement> requirements_;
  std::vector<std::vector<std::uint32_t>> meets_;  // requirements, by the package that meets them
  std::vector<std::uint32_t> left_, seen_, gone_;  // of the last count
};

/// Who keeps whom: from a node above all to what is wanted or protected, from there by all relations.
class Keeping {
 public:
  Keeping(const Universe& universe, const std::vector<std::uint32_t>& numbers)
      : top_(static_cast<std::uint32_t>(universe.installed().size())), next_(top_ + 1), before_(top_ + 1) {
    const auto add = [&](std::uint32_t from, std::uint32_t to) {
      next_[from].push_back(to);
      before_[to].push_back(from);
    };
    for (std::uint32_t i = 0; i < top_; ++i) {
      const PackageId id = universe.installed()[i];
      if (universe.wanted(id) || universe.is_protected(id)) add(top_, i);
      for (const RelationList list : {RelationList::Requires, RelationList::Recommends, RelationList::Suggests})
        for (const RelationId relation : universe.relations(id, list))
          universe.each_match(relation, [&](PackageId other) {
            if (numbers[index_of(other)] != kNowhere) add(i, numbers[index_of(other)]);
          });
    }
    number_from_the_end();
    dominate();
  }

  /// Nodes after all that they dominate, the one above all left out; what nothing keeps is not among them.
  std::vector<std::uint32_t> from_below() const { return {postorder_.begin(), postorder_.end() - 1}; }
  /// The nearest one that every way from above leads through.
  std::uint32_t dominator(std::uint32_t node) const { return dominators_[node]; }
  bool is_top(std::uint32_t node) const { return node == top_; }

 private:
  void number_from_the_end() {
    place_.assign(top_ + 1, kNowhere);
    std::vector<std::pair<std::uint32_t, std::size_t>> stack{{top_, 0}};
    std::vector<bool> seen(top_ + 1, false);
    seen[top_] = true;
    while (!stack.empty()) {
      auto& [node, at] = stack.back();
      if (at == next_[node].size()) {
        place_[node] = static_cast<std::uint32_t>(postorder_.size());
        postorder_.push_back(node);
        stack.pop_back();
        continue;
      }
      const std::uint32_t other = next_[node][at++];
      if (seen[other]) continue;
      seen[other] = true;
      stack.emplace_back(other, 0);
    }
  }

  std::uint32_t common(std::uint32_t a, std::uint32_t b) const {
    while (a != b) {
      while (place_[a] < place_[b]) a = dominators_[a];
      while (place_[b] < place_[a]) b = dominators_[b];
    }
    return a;
  }

  void dominate() {
    dominators_.assign(top_ + 1, kNowhere);
    dominators_[top_] = top_;
    for (bool changed = true; changed;) {
      changed = false;
      for (auto node = postorder_.rbegin() + 1; node != postorder_.rend(); ++node) {
        std::uint32_t found = kNowhere;
        for (const std::uint32_t other : before_[*node])
          if (place_[other] != kNowhere && dominators_[other] != kNowhere)
            found = found == kNowhere ? other : common(other, found);
        if (dominators_[*node] == found) continue;
        dominators_[*node] = found;
        changed = true;
      }
    }
  }

  std::uint32_t top_;
  std::vector<std::vector<std::uint32_t>> next_, before_;
  std::vector<std::uint32_t> postorder_, place_, dominators_;
};

}  // namespace

std::vector<FreedAlone> freed_by_each(const Universe& universe) {
  const std::vector<std::uint32_t> numbers = numbers_of(universe);
  Dependants dependants(universe, numbers);
  const Keeping keeping(universe, numbers);
  const auto& installed = universe.installed();
  std::vector<FreedAlone> result(installed.size());
  std::vector<ByteCount> below(installed.size(), 0);  // what a package dominates, itself left out
  const auto size_of = [&](std::uint32_t i) { return universe.installed_size(installed[i]); };
  for (const std::uint32_t node : keeping.from_below()) {
    const std::uint32_t above = keeping.dominator(node);
    if (keeping.is_top(above)) continue;
    below[above] += below[node] + (universe.held(installed[node]) ? 0 : size_of(node));
  }
  for (std::uint32_t i = 0; i < installed.size(); ++i) {
    result[i].needed_by = dependants.count(i);
    if (result[i].needed_by == 0) result[i].bytes = size_of(i) + below[i];
  }
  return result;
}

}  // namespace hambrel::plan
