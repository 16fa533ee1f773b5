// What makes a large graph clear: the part that is nearest, and no relation that others show as well.
#include <fmt/format.h>

#include <deque>

#include "base/amounts.h"
#include "report/graph.h"

namespace hambrel::report {

namespace {

constexpr auto kNone = static_cast<std::size_t>(-1);

using Neighbours = std::vector<std::vector<std::size_t>>;

Neighbours neighbours_of(const Graph& graph) {
  Neighbours next(graph.nodes.size());
  for (const GraphEdge& one : graph.edges) {
    if (graph.way != Graph::Way::Backward) next[one.from].push_back(one.to);
    if (graph.way != Graph::Way::Forward) next[one.to].push_back(one.from);
  }
  return next;
}

/// Is there a way without this edge?
bool is_shown_by_others(const Graph& graph, const std::vector<std::vector<std::size_t>>& out,
                        const std::vector<bool>& dropped, std::size_t edge) {
  std::vector<bool> seen(graph.nodes.size(), false);
  std::deque<std::size_t> queue{graph.edges[edge].from};
  for (; !queue.empty(); queue.pop_front())
    for (const std::size_t one : out[queue.front()]) {
      if (one == edge || dropped[one] || seen[graph.edges[one].to]) continue;
      if (graph.edges[one].to == graph.edges[edge].to) return true;
      seen[graph.edges[one].to] = true;
      queue.push_back(graph.edges[one].to);
    }
  return false;
}

}  // namespace

Graph folded(const Graph& graph, std::size_t most) {
  if (graph.nodes.size() <= most) return graph;
  const Neighbours next = neighbours_of(graph);
  std::vector<std::size_t> anchor(graph.nodes.size(), kNone), number(graph.nodes.size(), kNone);
  std::vector<std::size_t> behind(graph.nodes.size(), 0);
  std::vector<bool> seen(graph.nodes.size(), false);
  std::deque<std::size_t> queue;
  Graph result;
  result.title = graph.title;
  result.way = graph.way;
  result.sentences = graph.sentences;
  for (std::size_t start = 0; start < graph.nodes.size(); ++start) {
    if (seen[start]) continue;
    seen[start] = true;
    queue.push_back(start);
    for (; !queue.empty(); queue.pop_front()) {
      const std::size_t at = queue.front();
      if (result.nodes.size() < most) {
        number[at] = result.nodes.size();
        result.nodes.push_back(graph.nodes[at]);
      } else {
        ++behind[anchor[at] != kNone ? anchor[at] : 0];  // what hangs on nothing that is drawn: on the first
      }
      for (const std::size_t other : next[at]) {
        if (seen[other]) continue;
        seen[other] = true;
        anchor[other] = number[at] != kNone ? at : anchor[at];
        queue.push_back(other);
      }
    }
  }
  for (GraphEdge one : graph.edges) {
    if (number[one.from] == kNone || number[one.to] == kNone) continue;
    one.from = number[one.from];
    one.to = number[one.to];
    result.edges.push_back(std::move(one));
  }
  for (std::size_t i = 0; i < graph.nodes.size(); ++i) {
    if (behind[i] == 0) continue;
    const std::size_t more = result.nodes.size();
    result.nodes.push_back({fmt::format("{} more", behind[i]), "", Look::Folded, ""});
    const bool is_before = graph.way == Graph::Way::Backward;
    result.edges.push_back({is_before ? more : number[i], is_before ? number[i] : more, "", true, false});
  }
  return result;
}

Graph reduced(const Graph& graph) {
  std::vector<std::vector<std::size_t>> out(graph.nodes.size());
  for (std::size_t i = 0; i < graph.edges.size(); ++i) out[graph.edges[i].from].push_back(i);
  std::vector<bool> dropped(graph.edges.size(), false);
  std::size_t count = 0;
  for (std::size_t i = 0; i < graph.edges.size(); ++i) {
    if (graph.edges[i].is_bad || !is_shown_by_others(graph, out, dropped, i)) continue;
    dropped[i] = true;
    ++count;
  }
  Graph result = graph;
  result.edges.clear();
  for (std::size_t i = 0; i < graph.edges.size(); ++i)
    if (!dropped[i]) result.edges.push_back(graph.edges[i]);
  if (count > 0)
    result.sentences.push_back(fmt::format("{} not drawn where a longer way shows the same.",
                                           count_text(count, "relation is", "relations are")));
  return result;
}

Graph with_short_labels(const Graph& graph) {
  Graph result = graph;
  for (GraphEdge& one : result.edges)
    if (const auto blank = one.label.find(' '); blank != std::string::npos && !one.is_bad)
      if (const auto bound = one.label.find_first_of("<>=!"); bound != std::string::npos && bound > 0)
        one.label.erase(0, bound);
  return result;
}

}  // namespace hambrel::report
