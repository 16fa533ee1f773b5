#include "plan/trees.h"

#include <algorithm>
#include <deque>
#include <functional>
#include <map>
#include <set>

namespace hambrel::plan {

namespace {

struct Edge {
  PackageId to{};
  std::string relation;
};
using Edges = std::map<PackageId, std::vector<Edge>>;

enum class Strength { Required, Any };

/// Edges from each package of the set to what meets its relations in the set.
Edges edges_of(const Universe& universe, const std::vector<PackageId>& set, Strength strength) {
  const std::set<PackageId> members(set.begin(), set.end());
  Edges edges;
  for (const PackageId id : set) {
    const Package& package = universe.package(id);
    const auto add = [&](const std::vector<Relation>& relations, const char* verb) {
      for (const Relation& relation : relations)
        for (const PackageId other : universe.matching(relation))
          if (members.contains(other) && other != id)
            edges[id].push_back({other, std::string(verb) + " " + relation.text()});
    };
    add(package.requires_, "requires");
    if (strength == Strength::Required) continue;
    add(package.recommends, "recommends");
    add(package.suggests, "suggests");
  }
  return edges;
}

std::vector<TreeLine> unfold(const Edges& edges, PackageId top, std::size_t most_depth) {
  std::vector<TreeLine> lines;
  std::set<PackageId> unfolded;
  std::vector<TreeLine> stack{{0, top, "", false}};
  while (!stack.empty()) {
    TreeLine line = std::move(stack.back());
    stack.pop_back();
    const auto below = edges.find(line.id);
    const bool has_more = below != edges.end() && !below->second.empty();
    const bool again = !unfolded.insert(line.id).second;
    line.folded = again && has_more;
    if (has_more && !again && (most_depth == 0 || line.depth < most_depth)) {
      std::set<PackageId> listed;
      std::vector<TreeLine> children;
      for (const Edge& edge : below->second)
        if (listed.insert(edge.to).second) children.push_back({line.depth + 1, edge.to, edge.relation, false});
      stack.insert(stack.end(), children.rbegin(), children.rend());
    }
    lines.push_back(std::move(line));
  }
  return lines;
}

}  // namespace

std::vector<TreeLine> needs_tree(const Universe& universe, const std::vector<PackageId>& set, PackageId top,
                                 std::size_t most_depth) {
  return unfold(edges_of(universe, set, Strength::Required), top, most_depth);
}

std::vector<TreeLine> needed_by_tree(const Universe& universe, const std::vector<PackageId>& set, PackageId top,
                                     std::size_t most_depth) {
  Edges upwards;
  for (const auto& [from, edges] : edges_of(universe, set, Strength::Required))
    for (const Edge& edge : edges) upwards[edge.to].push_back({from, edge.relation});
  return unfold(upwards, top, most_depth);
}

std::vector<TreeLine> why_installed(const Universe& universe, PackageId id) {
  const auto set = universe.installed();
  for (const Strength strength : {Strength::Required, Strength::Any}) {
    const Edges edges = edges_of(universe, set, strength);
    // breadth first from everything wanted, so that the chain is a shortest one
    std::map<PackageId, std::pair<PackageId, std::string>> reached;  // -> from where, by which relation
    std::deque<PackageId> queue;
    for (const PackageId start : set)
      if (universe[start].installed->reason == Reason::Wanted)
        reached.emplace(start, std::pair(start, "")), queue.push_back(start);
    while (!queue.empty() && !reached.contains(id)) {
      const PackageId at = queue.front();
      queue.pop_front();
      const auto below = edges.find(at);
      if (below == edges.end()) continue;
      for (const Edge& edge : below->second)
        if (reached.emplace(edge.to, std::pair(at, edge.relation)).second) queue.push_back(edge.to);
    }
    if (!reached.contains(id)) continue;
    std::vector<TreeLine> chain;
    for (PackageId at = id;; at = reached.at(at).first) {
      chain.push_back({0, at, reached.at(at).second, false});
      if (reached.at(at).first == at) break;
    }
    std::reverse(chain.begin(), chain.end());
    for (std::size_t i = 0; i < chain.size(); ++i) chain[i].depth = i;
    return chain;
  }
  return {};
}

}  // namespace hambrel::plan
