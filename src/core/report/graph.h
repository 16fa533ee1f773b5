// Packages and how they hang together, as a value and as a drawing. Graphviz says where nodes and edges lie; they are
// drawn as every other figure is. Names from outside never reach Graphviz: it is given numbers and sizes.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "report/drawing.h"

namespace hambrel::report {

/// What a node is, told by colour, corners and border.
enum class Look { Asked, Wanted, PulledIn, Available, Came, Changed, Gone, InTheWay, Missing, Folded };

struct GraphNode {
  std::string name;    // told apart by it
  std::string detail;  // a second line: a version, a price
  Look look = Look::PulledIn;
  std::string note{};  // a third line: a reason that is no edge
};
struct GraphEdge {
  std::size_t from = 0, to = 0;  // nodes, by number
  std::string label{};           // a bound, or what kind of relation it is
  bool is_weak = false;          // recommended or suggested
  bool is_bad = false;           // what prevents something
};

class Graph {
 public:
  std::string title;
  /// The way that leads on from what was asked for.
  enum class Way { Forward, Backward, Both };
  Way way = Way::Both;
  std::vector<GraphNode> nodes;
  std::vector<GraphEdge> edges;
  std::vector<std::string> sentences;  // below the picture

  /// The node of that name; made if there is none yet.
  std::size_t node(const GraphNode& node);
  /// One edge for each pair: further labels are added to it.
  void edge(const GraphEdge& edge);
};

/// At most about so many nodes: those nearest to the first one stay, and for each of them that has more behind it there
/// is one node which tells how many.
Graph folded(const Graph& graph, std::size_t most);

/// Without relations that a longer way along others shows as well (a transitive reduction); a sentence says how many.
Graph reduced(const Graph& graph);
/// With relations to another name shortened to their bounds.
Graph with_short_labels(const Graph& graph);

/// Throws Error{Internal} where Graphviz is not there or fails.
Drawing draw(const Graph& graph);
Table table_of(const Graph& graph);
/// In the language of Graphviz, for whoever wants to lay it out himself.
std::string dot_text(const Graph& graph);

}  // namespace hambrel::report
