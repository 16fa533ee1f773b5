// Graphs of what the core knows: who needs whom, what a plan changes and why, and why a request can't be met.
#pragma once

#include <vector>

#include "operations/change.h"
#include "plan/plan.h"
#include "plan/trees.h"
#include "report/graph.h"

namespace hambrel::report {

/// Above this a graph is folded; then so many nodes stay.
inline constexpr std::size_t kMostNodes = 60, kFoldedNodes = 40;
/// Above this relations that others show as well are left out, and what stands on them is shortened.
inline constexpr std::size_t kManyNodes = 24;

/// The lines of plan::needs_tree() (`upwards`: of needed_by_tree()) of one package, added to a graph.
void add_tree(Graph& graph, const Universe& universe, const std::vector<plan::TreeLine>& lines, bool upwards);
/// Steps with their versions and prices; reasons as edges, from the one that is the reason.
Graph graph_of(const plan::Plan& plan);
/// The statements that exclude each other, and below them the sentences.
Graph graph_of(const Universe& universe, const operations::Refused& refused);

/// Folded and reduced where it is large.
Graph made_clear(const Graph& graph);

}  // namespace hambrel::report
