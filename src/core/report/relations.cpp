#include "report/relations.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/amounts.h"
#include "base/text.h"

namespace hambrel::report {

namespace {

Look look_of(const Universe& universe, PackageId id) {
  if (!universe.is_installed(id)) return Look::Available;
  return universe.wanted(id) ? Look::Wanted : Look::PulledIn;
}

GraphNode node_of(const Universe& universe, PackageId id) {
  GraphNode node;
  node.name = universe.name(id);
  node.detail = fmt::format("{}{}", universe.version(id), universe.held(id) ? ", held" : "");
  node.look = look_of(universe, id);
  return node;
}

/// What stands on an edge: "requires libbuoy >= 2" of libbuoy is ">= 2"; what has neither bound nor another name,
/// nothing.
std::string label_of(const std::string& relation, std::string_view name) {
  constexpr std::string_view kRequires = "requires ";
  std::string text = relation;
  if (text.starts_with(kRequires)) text.erase(0, kRequires.size());
  if (text == name) return "";
  const std::string with_blank = std::string(name) + " ";
  return text.starts_with(with_blank) ? text.substr(with_blank.size()) : text;
}

bool is_weak(const std::string& relation) {
  return relation.starts_with("recommends ") || relation.starts_with("suggests ");
}

}  // namespace

void add_tree(Graph& graph, const Universe& universe, const std::vector<plan::TreeLine>& lines, bool upwards) {
  std::vector<std::size_t> above;  // nodes by depth
  for (const plan::TreeLine& line : lines) {
    const std::size_t node = graph.node(node_of(universe, line.id));
    above.resize(line.depth);
    if (line.depth == 0) {
      if (universe.is_installed(line.id)) graph.nodes[node].note = universe.wanted(line.id) ? "wanted" : "pulled in";
      graph.nodes[node].look = Look::Asked;
    } else {
      const std::size_t other = above.back();
      const std::string& needed = graph.nodes[upwards ? other : node].name;
      graph.edge({upwards ? node : other, upwards ? other : node, label_of(line.relation, needed),
                  is_weak(line.relation), false});
    }
    above.push_back(node);
  }
}

namespace {

Look look_of(const plan::Step& step) {
  using plan::Action;
  switch (step.action) {
    case Action::Install:
    case Action::Unshelve: return Look::Came;
    case Action::Remove:
    case Action::Shelve: return Look::Gone;
    case Action::Upgrade:
    case Action::Downgrade:
    case Action::Repair: return Look::Changed;
    default: return Look::Wanted;
  }
}

std::string detail_of(const plan::Step& step) {
  std::string versions = step.before;
  if (!step.after.empty() && step.after != step.before) versions += (versions.empty() ? "" : " -> ") + step.after;
  if (step.size_change != 0) versions += fmt::format(", {}", change_text(step.size_change));
  return versions;
}

/// Whose name is the reason; the other kinds are words.
bool has_reason_node(const plan::Why& why) {
  using plan::WhyKind;
  switch (why.kind) {
    case WhyKind::Required:
    case WhyKind::Recommended:
    case WhyKind::Replacing:
    case WhyKind::ReplacedBy:
    case WhyKind::InConflict:
    case WhyKind::MakesRoom:
    case WhyKind::OldInConflict: return !why.by.empty();
    default: return false;
  }
}

std::string edge_text(const plan::Why& why, const std::string& name) {
  using plan::WhyKind;
  switch (why.kind) {
    case WhyKind::Required: return label_of(why.relation, name);
    case WhyKind::Recommended: return "recommends";
    case WhyKind::Replacing: return "is replaced";
    case WhyKind::ReplacedBy: return "replaces";
    case WhyKind::InConflict:
    case WhyKind::OldInConflict: return "conflicts";
    case WhyKind::MakesRoom: return "takes the room";
    default: return why.text();
  }
}

}  // namespace

Graph graph_of(const plan::Plan& plan) {
  Graph graph;
  graph.title = fmt::format("What this plan changes: {}, disk use {}",
                            count_text(plan.steps.size(), "package", "packages"), change_text(plan.size_change()));
  std::map<std::string, std::size_t> by_name;
  for (const plan::Step& step : plan.steps) {
    const std::string note = has_reason_node(step.why) ? "" : step.why.text();
    by_name.emplace(step.name, graph.nodes.size());
    graph.nodes.push_back(
        {step.name, fmt::format("{} {}", plan::text_of(step.action), detail_of(step)), look_of(step), note});
  }
  for (std::size_t i = 0; i < plan.steps.size(); ++i) {
    const plan::Why& why = plan.steps[i].why;
    if (!has_reason_node(why)) continue;
    auto found = by_name.find(why.by);
    if (found == by_name.end()) {
      found = by_name.emplace(why.by, graph.nodes.size()).first;
      graph.nodes.push_back({why.by, "stays", Look::PulledIn, ""});
    }
    if (found->second == i) continue;
    const bool is_bad = why.kind == plan::WhyKind::InConflict || why.kind == plan::WhyKind::OldInConflict;
    graph.edge({found->second, i, edge_text(why, plan.steps[i].name), why.kind == plan::WhyKind::Recommended, is_bad});
  }
  return graph;
}

namespace {

class RefusalGraph {
 public:
  explicit RefusalGraph(const Universe& universe) : universe_(universe) {}

  Graph run(const operations::Refused& refused) {
    graph_.title = "Refused: " + refused.refusal.what;
    for (const auto& cause : refused.refusal.causes) {
      add(cause);
      graph_.sentences.push_back(cause.text(universe_));
    }
    tell_versions_apart();
    for (const std::string& text : asked_) show_asked(text);
    return std::move(graph_);
  }

 private:
  using Cause = solve::Cause;
  using Versions = std::set<PackageId>;

  /// A node for each set of versions of a name that a statement speaks of.
  std::size_t node_of(const std::string& name, const std::vector<PackageId>& packages) {
    const Versions versions(packages.begin(), packages.end());
    const auto [at, is_new] = nodes_.emplace(std::pair(name, versions), graph_.nodes.size());
    if (!is_new) return at->second;
    GraphNode node{name, "", Look::Available, ""};
    std::vector<std::string> texts;
    for (const PackageId id : versions) {
      texts.emplace_back(universe_.version(id));
      if (node.look == Look::Available) node.look = look_of(universe_, id);
    }
    constexpr std::size_t kMost = 3;
    node.detail = plan::some_of(texts, kMost);
    graph_.nodes.push_back(std::move(node));
    return at->second;
  }
  /// What a statement is about: packages by their own name, what was asked for otherwise by the words.
  std::size_t subject(const Cause& cause) {
    return node_of(cause.packages.empty() ? cause.name : std::string(universe_.name(cause.packages.front())),
                   cause.packages);
  }
  void remark(std::size_t node, const std::string& text) {
    std::string& note = graph_.nodes[node].note;
    if (note.find(text) == std::string::npos) note += (note.empty() ? "" : ", ") + text;
  }

  /// What was asked for in other words than a package: the versions that the statements speak of are meant.
  void show_asked(const std::string& text) {
    const std::string name = text.substr(0, text.find_first_of("@=<>! "));
    bool is_there = false;
    for (std::size_t i = 0; i < graph_.nodes.size(); ++i) {
      GraphNode& node = graph_.nodes[i];
      if (node.name != name || (node.look != Look::Available && node.look != Look::Asked)) continue;
      node.look = Look::Asked;
      remark(i, text + " was asked for");
      is_there = true;
    }
    if (!is_there) graph_.nodes.push_back({text, "", Look::Asked, "asked for"});
  }

  void add(const Cause& cause) {
    if (cause.kind == Cause::Kind::Asked && cause.packages.empty()) {
      asked_.push_back(cause.name);
      return;
    }
    const std::size_t node = subject(cause);
    switch (cause.kind) {
      case Cause::Kind::Asked:
      case Cause::Kind::AskedToRemove:
        graph_.nodes[node].look = Look::Asked;
        remark(node, cause.kind == Cause::Kind::Asked ? "asked for" : "to be removed");
        break;
      case Cause::Kind::LeftAlone: remark(node, "to be left alone"); break;
      case Cause::Kind::Held: in_the_way(node, "held"); break;
      case Cause::Kind::Wanted: in_the_way(node, "wanted"); break;
      case Cause::Kind::Essential: in_the_way(node, "essential"); break;
      case Cause::Kind::Requires: relate(cause, node, false); break;
      case Cause::Kind::Conflicts:
      case Cause::Kind::Replaces: relate(cause, node, true); break;
    }
  }
  void in_the_way(std::size_t node, const std::string& word) {
    if (graph_.nodes[node].look != Look::Asked) graph_.nodes[node].look = Look::InTheWay;
    remark(node, word);
  }
  void relate(const Cause& cause, std::size_t node, bool excludes) {
    if (cause.others.empty()) {
      const std::size_t none = graph_.node({cause.relation, "nothing offers it", Look::Missing, ""});
      graph_.edge({node, none, excludes ? "conflicts" : "", false, true});
      return;
    }
    std::map<std::string, std::vector<PackageId>> by_name;
    for (const PackageId other : cause.others) by_name[std::string(universe_.name(other))].push_back(other);
    for (const auto& [name, others] : by_name) {
      const std::size_t there = node_of(name, others);
      if (there == node) continue;
      const char* const word = cause.kind == Cause::Kind::Replaces ? "replaces" : "conflicts";
      graph_.edge({node, there, excludes ? word : label_of(cause.relation, name), false, excludes});
    }
  }

  /// Sets of versions of one name without a common one exclude each other.
  void tell_versions_apart() {
    for (auto one = nodes_.begin(); one != nodes_.end(); ++one)
      for (auto other = nodes_.begin(); other != one; ++other) {
        const auto& [name, versions] = one->first;
        if (name != other->first.first) continue;
        const bool is_common = std::any_of(versions.begin(), versions.end(),
                                           [&](PackageId id) { return other->first.second.contains(id); });
        if (!is_common && !versions.empty() && !other->first.second.empty())
          graph_.edge({one->second, other->second, "only one of these", false, true});
      }
  }

  const Universe& universe_;
  Graph graph_;
  std::map<std::pair<std::string, Versions>, std::size_t> nodes_;
  std::vector<std::string> asked_;  // without packages of their own
};

}  // namespace

Graph graph_of(const Universe& universe, const operations::Refused& refused) {
  return RefusalGraph(universe).run(refused);
}

Graph made_clear(const Graph& graph) {
  if (graph.nodes.size() <= kManyNodes) return graph;
  const Graph near = graph.nodes.size() > kMostNodes ? folded(graph, kFoldedNodes) : graph;
  return with_short_labels(reduced(near));
}

}  // namespace hambrel::report
