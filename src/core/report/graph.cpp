#include "report/graph.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <map>
#include <set>
#include <string_view>

#include "base/error.h"
#include "base/text.h"
#include "report/graph_library.h"
#include "report/render.h"

namespace hambrel::report {

namespace {

constexpr double kInch = 72, kName = 12.5, kDetail = 11, kLabel = 10.5, kPadding = 10, kWidest = 230;

enum class Corners { Sharp, Round, Pill };
struct Style {
  const char* meaning;
  Tone tone;
  Corners corners;
  bool dashed;
  double width;
};
/// By Look.
constexpr std::array<Style, 10> kStyles{{{"asked for", Tone::Blue, Corners::Sharp, false, 2.5},
                                         {"wanted", Tone::Blue, Corners::Sharp, false, 1.25},
                                         {"pulled in", Tone::Grey, Corners::Round, false, 1.25},
                                         {"not installed", Tone::Grey, Corners::Round, true, 1.25},
                                         {"installed", Tone::Teal, Corners::Sharp, false, 2},
                                         {"changed", Tone::Violet, Corners::Sharp, false, 2},
                                         {"removed", Tone::Orange, Corners::Pill, false, 2},
                                         {"in the way", Tone::Red, Corners::Sharp, false, 2.5},
                                         {"not available", Tone::Red, Corners::Pill, true, 2},
                                         {"more", Tone::Muted, Corners::Pill, true, 1}}};
const Style& style_of(Look look) { return kStyles[static_cast<std::size_t>(look)]; }

struct Box {
  double w = 0, h = 0;             // pixels
  std::vector<std::string> lines;  // fitted
};

Box box_of(const GraphNode& node) {
  constexpr double kLine = 15, kMargin = 12;
  Box box;
  box.lines.push_back(fitted(node.name, kWidest, kName, true));
  box.w = text_width(box.lines.front(), kName, true);
  for (const std::string* const more : {&node.detail, &node.note}) {
    if (more->empty()) continue;
    box.lines.push_back(fitted(*more, kWidest, kDetail));
    box.w = std::max(box.w, text_width(box.lines.back(), kDetail));
  }
  box.w += 2 * kPadding;
  box.h = kLine * static_cast<double>(box.lines.size()) + kMargin;
  return box;
}

/// Numbers and sizes, which is all that a layout needs.
std::string layout_request(const Graph& graph, const std::vector<Box>& boxes) {
  std::string text =
      "digraph g {\nrankdir=LR; nodesep=0.16; ranksep=0.7; splines=true;\nnode [shape=box,fixedsize=true,label=\"\"];\n"
      "edge [arrowhead=none];\n";
  for (std::size_t i = 0; i < boxes.size(); ++i)
    text += fmt::format("n{} [width={:.4f},height={:.4f}];\n", i, boxes[i].w / kInch, boxes[i].h / kInch);
  for (const GraphEdge& one : graph.edges) {
    text += fmt::format("n{} -> n{}", one.from, one.to);
    if (!one.label.empty())
      text += fmt::format(
          " [label=<<table border=\"0\" cellborder=\"0\" cellspacing=\"0\" cellpadding=\"0\"><tr><td "
          "fixedsize=\"true\" "
          "width=\"{:.0f}\" height=\"16\"></td></tr></table>>]",
          text_width(one.label, kLabel) + 8);
    text += ";\n";
  }
  return text + "}\n";
}

/// What Graphviz answers in its format "plain": lines of words, lengths in inches, upwards.
std::string laid_out(const std::string& request) {
  const GraphLibrary& all = graph_library();
  GVC_t* const context = all.context();
  Agraph_t* const graph = all.read(request.c_str());
  std::string text;
  if (graph != nullptr && all.layout(context, graph, "dot") == 0) {
    char* data = nullptr;
    unsigned size = 0;
    if (all.render(context, graph, "plain", &data, &size) == 0) text.assign(data, size);
    all.free_render_data(data);
    all.free_layout(context, graph);
  }
  if (graph != nullptr) all.close(graph);
  all.free_context(context);
  if (text.empty()) throw Error(ErrorCode::Internal, "Graphviz could not lay out a graph");
  return text;
}

double number_in(std::string_view word) {
  double value = 0;
  std::from_chars(word.data(), word.data() + word.size(), value);
  return value * kInch;
}

struct Route {
  std::vector<Point> points;
  Point label;
};
struct Placed {
  double width = 0, height = 0;
  std::vector<Point> nodes;  // their middles
  std::map<std::pair<std::size_t, std::size_t>, Route> edges;
};

std::size_t index_in(std::string_view word) { return parse_number(word.substr(1)).value_or(0); }

Placed placed(const Graph& graph, const std::vector<Box>& boxes) {
  Placed result;
  result.nodes.resize(graph.nodes.size());
  const std::string plain = laid_out(layout_request(graph, boxes));
  for (const std::string_view line : split(plain, '\n')) {
    const auto words = split(line, ' ');
    if (words.size() < 4) continue;
    const auto point = [&](std::size_t at) {
      return Point{number_in(words[at]), result.height - number_in(words[at + 1])};
    };
    if (words[0] == "graph") {
      result.width = number_in(words[2]);
      result.height = number_in(words[3]);
    } else if (words[0] == "node" && index_in(words[1]) < result.nodes.size()) {
      result.nodes[index_in(words[1])] = point(2);
    } else if (words[0] == "edge") {
      Route& route = result.edges[{index_in(words[1]), index_in(words[2])}];
      const std::size_t count = parse_number(words[3]).value_or(0);
      for (std::size_t i = 0; i < count && 5 + 2 * i < words.size(); ++i) route.points.push_back(point(4 + 2 * i));
      route.label = point(words.size() - 4);  // before style and colour, where there is one
    }
  }
  return result;
}

Tone tone_of(const GraphEdge& edge) {
  if (edge.is_bad) return Tone::Red;
  return edge.is_weak ? Tone::Axis : Tone::Muted;
}

void draw_edge(Drawing& drawing, const GraphEdge& edge, const Route& route, const Point& by) {
  if (route.points.size() < 4) return;
  Shape curve{Shape::Kind::Curve, route.points};
  for (Point& one : curve.points) one = {one.x + by.x, one.y + by.y};
  curve.stroke = tone_of(edge);
  curve.width = edge.is_bad ? 2 : 1.2;
  curve.dashed = edge.is_weak;
  const Point tip = curve.points.back(), before = curve.points[curve.points.size() - 2];
  drawing.shapes.push_back(curve);
  constexpr double kLong = 8, kWide = 3.5;
  const double length = std::max(1e-6, std::hypot(tip.x - before.x, tip.y - before.y));
  const Point along{(tip.x - before.x) / length, (tip.y - before.y) / length};
  const Point base{tip.x - along.x * kLong, tip.y - along.y * kLong};
  drawing.polygon(
      {tip, {base.x - along.y * kWide, base.y + along.x * kWide}, {base.x + along.y * kWide, base.y - along.x * kWide}},
      tone_of(edge));
  if (edge.label.empty()) return;
  Shape& text = drawing.text(route.label.x + by.x, route.label.y + by.y + 4, edge.label, kLabel,
                             edge.is_bad ? Tone::Red : Tone::Muted, Anchor::Middle);
  text.halo = true;
}

void draw_box(Drawing& drawing, const Style& style, double x, double y, double w, double h) {
  Shape& rect = drawing.rect(x, y, w, h, pale(style.tone) == style.tone ? Tone::Surface : pale(style.tone), style.tone);
  rect.width = style.width;
  rect.dashed = style.dashed;
  rect.radius = style.corners == Corners::Round ? 7 : h / 2;
  if (style.corners == Corners::Sharp) rect.radius = 1;
}

void draw_node(Drawing& drawing, const GraphNode& node, const Box& box, const Point& middle) {
  constexpr double kLine = 15;
  draw_box(drawing, style_of(node.look), middle.x - box.w / 2, middle.y - box.h / 2, box.w, box.h);
  drawing.shapes.back().tip = node.name + (node.detail.empty() ? "" : " " + node.detail);
  double y = middle.y - kLine * (static_cast<double>(box.lines.size()) - 1) / 2 + 4;
  for (std::size_t i = 0; i < box.lines.size(); ++i, y += kLine) {
    Shape& text = drawing.text(middle.x, y, box.lines[i], i == 0 ? kName : kDetail, i == 0 ? Tone::Ink : Tone::Muted,
                               Anchor::Middle);
    text.bold = i == 0;
  }
}

/// The looks that occur, as small boxes with words. Returns where it ends.
double draw_legend(Drawing& drawing, const Graph& graph, double y) {
  constexpr double kBoxWidth = 26, kBoxHeight = 13, kLeft = 16, kBetween = 18, kLine = 22;
  std::set<Look> looks;
  for (const GraphNode& one : graph.nodes) looks.insert(one.look);
  double x = kLeft;
  for (const Look look : looks) {
    const Style& style = style_of(look);
    const double width = kBoxWidth + 6 + text_width(style.meaning, kDetail) + kBetween;
    if (x + width > drawing.width && x > kLeft) {
      x = kLeft;
      y += kLine;
    }
    draw_box(drawing, style, x, y - kBoxHeight + 2, kBoxWidth, kBoxHeight);
    drawing.text(x + kBoxWidth + 6, y, style.meaning, kDetail, Tone::Muted);
    x += width;
  }
  return y + kLine;
}

}  // namespace

std::size_t Graph::node(const GraphNode& wanted) {
  for (std::size_t i = 0; i < nodes.size(); ++i)
    if (nodes[i].name == wanted.name && nodes[i].detail == wanted.detail) return i;
  nodes.push_back(wanted);
  return nodes.size() - 1;
}

void Graph::edge(const GraphEdge& wanted) {
  for (GraphEdge& one : edges)
    if (one.from == wanted.from && one.to == wanted.to) {
      if (one.label.find(wanted.label) == std::string::npos)
        one.label += (one.label.empty() ? "" : ", ") + wanted.label;
      one.is_weak = one.is_weak && wanted.is_weak;
      one.is_bad = one.is_bad || wanted.is_bad;
      return;
    }
  edges.push_back(wanted);
}

Drawing draw(const Graph& graph) {
  constexpr double kMargin = 16, kTitle = 34, kSentence = 18, kFoot = 26;
  std::vector<Box> boxes;
  for (const GraphNode& one : graph.nodes) boxes.push_back(box_of(one));
  const Placed at = placed(graph, boxes);
  double width = std::max(at.width, text_width(graph.title, 15, true)) + 2 * kMargin;
  for (const std::string& one : graph.sentences) width = std::max(width, text_width(one, kDetail + 1) + 2 * kMargin);
  constexpr double kLeastWidth = 420;
  Drawing drawing(std::max(width, kLeastWidth), 0);
  drawing.title = graph.title;
  drawing.text(kMargin, 24, graph.title, 15).bold = true;
  const Point by{kMargin, kTitle + 6};
  for (const GraphEdge& one : graph.edges)
    if (const auto route = at.edges.find({one.from, one.to}); route != at.edges.end())
      draw_edge(drawing, one, route->second, by);
  for (std::size_t i = 0; i < boxes.size(); ++i)
    draw_node(drawing, graph.nodes[i], boxes[i], {at.nodes[i].x + by.x, at.nodes[i].y + by.y});
  double y = at.height + by.y + kFoot;
  for (const std::string& one : graph.sentences) {
    drawing.text(kMargin, y, one, kDetail + 1, Tone::Ink);
    y += kSentence;
  }
  drawing.height = draw_legend(drawing, graph, y + 8);
  return drawing;
}

Table table_of(const Graph& graph) {
  Table table{{"from", "from version", "to", "to version", "relation"}, {}};
  for (const GraphEdge& one : graph.edges)
    table.rows.push_back({graph.nodes[one.from].name, graph.nodes[one.from].detail, graph.nodes[one.to].name,
                          graph.nodes[one.to].detail, one.label});
  return table;
}

std::string dot_text(const Graph& graph) {
  const auto quoted = [](const std::string& text) {
    std::string safe = "\"";
    for (const char c : printable_line(text)) {
      if (c == '"' || c == '\\') safe += '\\';
      safe += c;
    }
    return safe + "\"";
  };
  std::string text = fmt::format("digraph {} {{\n  rankdir=LR;\n  node [shape=box];\n", quoted(graph.title));
  for (std::size_t i = 0; i < graph.nodes.size(); ++i) {
    const GraphNode& one = graph.nodes[i];
    text += fmt::format("  n{} [label={}, comment={}{}];\n", i,
                        quoted(one.name + (one.detail.empty() ? "" : " " + one.detail)),
                        quoted(style_of(one.look).meaning), style_of(one.look).dashed ? ", style=dashed" : "");
  }
  for (const GraphEdge& one : graph.edges)
    text += fmt::format("  n{} -> n{} [label={}{}];\n", one.from, one.to, quoted(one.label),
                        one.is_weak ? ", style=dashed" : "");
  return text + "}\n";
}

}  // namespace hambrel::report
