#include "plan/trees.h"

#include <algorithm>
#include <deque>
#include <numeric>
#include <span>
#include <unordered_map>
#include <utility>

namespace hambrel::plan {

namespace {

struct Edge {
  PackageId to{};
  const char* verb = "";
  RelationId relation{};
  std::string text(const Universe& universe) const {
    std::string text = verb;
    return text.append(" ").append(universe.text(relation));
  }
};

enum class Strength { Required, Any };

/// The packages of a set and how they hang together.
class Graph {
 public:
  Graph(const Universe& universe, const std::vector<PackageId>& set, Strength strength)
      : universe_(universe), set_(set), strength_(strength), member_(universe.size(), 0) {
    for (const PackageId id : set) member_[index_of(id)] = 1;
  }

  /// What meets the relations of a package within the set.
  std::vector<Edge> below(PackageId id) const {
    std::vector<Edge> edges;
    const auto add = [&](RelationList list, const char* verb) {
      const auto begin = static_cast<std::ptrdiff_t>(edges.size());
      for (const RelationId relation : universe_.relations(id, list))
        for (const PackageId other : universe_.matching(relation)) {
          if (member_[index_of(other)] == 0 || other == id) continue;
          const auto known =
              std::find_if(edges.begin() + begin, edges.end(), [&](const Edge& one) { return one.to == other; });
          if (known == edges.end())
            edges.push_back({other, verb, relation});
          else if (relation_rank(universe_, relation) < relation_rank(universe_, known->relation))
            known->relation = relation;
        }
    };
    add(RelationList::Requires, "requires");
    if (strength_ == Strength::Required) return edges;
    add(RelationList::Recommends, "recommends");
    add(RelationList::Suggests, "suggests");
    return edges;
  }

  /// The reverse of all edges: what the edges of others in the set say of each package.
  class Upwards {
   public:
    explicit Upwards(const Graph& graph) : starts_(graph.universe_.size() + 1, 0) {
      std::vector<std::pair<PackageId, Edge>> all;
      for (const PackageId id : graph.set_)
        for (const Edge& edge : graph.below(id)) all.emplace_back(edge.to, Edge{id, edge.verb, edge.relation});
      for (const auto& [below, edge] : all) ++starts_[index_of(below) + 1];
      std::partial_sum(starts_.begin(), starts_.end(), starts_.begin());
      edges_.resize(all.size());
      std::vector<std::uint32_t> next = starts_;
      for (const auto& [below, edge] : all) edges_[next[index_of(below)]++] = edge;
    }
    std::span<const Edge> above(PackageId id) const {
      return std::span(edges_).subspan(starts_[index_of(id)], starts_[index_of(id) + 1] - starts_[index_of(id)]);
    }

   private:
    std::vector<std::uint32_t> starts_;  // by package: the first of its edges
    std::vector<Edge> edges_;
  };

 private:
  const Universe& universe_;
  const std::vector<PackageId>& set_;
  Strength strength_;
  std::vector<std::uint8_t> member_;
};

/// `edges` tells those of a package, and is asked once about each.
template <typename Edges>
std::vector<TreeLine> unfold(const Universe& universe, const Edges& edges, PackageId top, std::size_t most_depth) {
  enum : std::uint8_t { kNew, kLeaf, kHasMore };
  struct Open {
    std::size_t depth;
    Edge edge;  // without a verb: nothing leads to the top
  };
  std::vector<TreeLine> lines;
  std::vector<std::uint8_t> met(universe.size(), kNew);
  std::vector<std::uint32_t> listed_by(universe.size(), 0);  // 1 + the line below which it was listed last
  std::vector<Open> stack{{0, {top, "", {}}}};
  while (!stack.empty()) {
    const auto [depth, reached] = stack.back();
    stack.pop_back();
    std::uint8_t& state = met[index_of(reached.to)];
    lines.push_back({depth, reached.to, *reached.verb == '\0' ? "" : reached.text(universe), state == kHasMore});
    if (state != kNew) continue;
    const auto& below = edges(reached.to);
    state = below.empty() ? kLeaf : kHasMore;
    if (most_depth != 0 && depth >= most_depth) continue;
    const std::size_t first = stack.size();
    for (const Edge& edge : below) {
      std::uint32_t& listed = listed_by[index_of(edge.to)];
      if (std::exchange(listed, static_cast<std::uint32_t>(lines.size())) == lines.size()) continue;
      stack.push_back({depth + 1, edge});
    }
    std::reverse(stack.begin() + static_cast<std::ptrdiff_t>(first), stack.end());
  }
  return lines;
}

}  // namespace

int relation_rank(const Universe& universe, RelationId relation) {
  if (universe.constraint_count(relation) > 1) return 2;
  switch (universe.constraint(relation, 0).op) {
    case Operator::Any: return 0;
    case Operator::Greater:
    case Operator::GreaterEqual: return 1;
    default: return 2;
  }
}

std::vector<TreeLine> needs_tree(const Universe& universe, const std::vector<PackageId>& set, PackageId top,
                                 std::size_t most_depth) {
  const Graph graph(universe, set, Strength::Required);
  return unfold(
      universe, [&](PackageId id) { return graph.below(id); }, top, most_depth);
}

std::vector<TreeLine> needed_by_tree(const Universe& universe, const std::vector<PackageId>& set, PackageId top,
                                     std::size_t most_depth) {
  const Graph graph(universe, set, Strength::Required);
  const Graph::Upwards upwards(graph);
  return unfold(
      universe, [&](PackageId id) { return upwards.above(id); }, top, most_depth);
}

std::vector<TreeLine> why_installed(const Universe& universe, PackageId id) {
  const auto& set = universe.installed();
  for (const Strength strength : {Strength::Required, Strength::Any}) {
    const Graph graph(universe, set, strength);
    // breadth first from everything wanted, so that the chain is a shortest one
    std::unordered_map<PackageId, std::pair<PackageId, Edge>> reached;  // -> from where, by which edge
    std::deque<PackageId> queue;
    for (const PackageId start : set)
      if (universe.wanted(start)) {
        reached.emplace(start, std::pair(start, Edge{}));
        queue.push_back(start);
      }
    while (!queue.empty() && !reached.contains(id)) {
      const PackageId at = queue.front();
      queue.pop_front();
      for (const Edge& edge : graph.below(at))
        if (reached.emplace(edge.to, std::pair(at, edge)).second) queue.push_back(edge.to);
    }
    if (!reached.contains(id)) continue;
    std::vector<TreeLine> chain;
    for (PackageId at = id;; at = reached.at(at).first) {
      const auto& [from, edge] = reached.at(at);
      chain.push_back({0, at, from == at ? "" : edge.text(universe), false});
      if (from == at) break;
    }
    std::reverse(chain.begin(), chain.end());
    for (std::size_t i = 0; i < chain.size(); ++i) chain[i].depth = i;
    return chain;
  }
  return {};
}

}  // namespace hambrel::plan
