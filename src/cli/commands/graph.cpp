// graph: dependencies, a plan or a refusal as a picture.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/output.h"
#include "operations/asking.h"
#include "operations/looking.h"
#include "operations/saved_plan.h"
#include "report/relations.h"

namespace hambrel::cli {

namespace {

using report::Graph;

/// Exactly one of these options, or none of them.
std::string mode_of(const Arguments& arguments) {
  std::string mode;
  for (const char* const one : {"needs", "needed-by", "both", "plan", "refused"}) {
    if (!arguments.has(one)) continue;
    if (!mode.empty())
      throw Error(ErrorCode::Usage, fmt::format("--{} and --{} cannot be combined", mode, one), {}, "choose one");
    mode = one;
  }
  return mode.empty() ? "needs" : mode;
}

/// Nothing where it is refused, which is shown.
std::optional<Graph> dependency_graph(Session& session, const Arguments& arguments, const std::string& mode) {
  Graph graph;
  std::vector<std::string> names;
  const std::size_t depth = depth_of(arguments);
  for (const Spec& spec : parse_specs(arguments.words())) {
    if (mode != "needed-by") {
      const auto found = operations::needs(session.root(), spec, depth);
      if (const auto* const refused = std::get_if<operations::Refused>(&found)) {
        show_refusal(session, *refused);
        return std::nullopt;
      }
      const auto& lines = std::get<std::vector<operations::TreeLine>>(found);
      report::add_tree(graph, session.universe(), lines, false);
      names.emplace_back(session.universe().name(lines.front().id));
    }
    if (mode == "needs") continue;
    const auto lines = operations::needed_by(session.root(), spec, depth);
    report::add_tree(graph, session.universe(), lines, true);
    if (mode == "needed-by") names.emplace_back(session.universe().name(lines.front().id));
  }
  if (mode != "both") graph.way = mode == "needs" ? Graph::Way::Forward : Graph::Way::Backward;
  const std::string all = plan::some_of(names, 3);
  const bool is_one = names.size() == 1;
  graph.title = fmt::format("What {} {}", all, is_one ? "needs" : "need");
  if (mode == "needed-by") graph.title = "What needs " + all;
  if (mode == "both") graph.title += is_one ? ", and what needs it" : ", and what needs them";
  return graph;
}

Graph plan_graph(Session& session, const Arguments& arguments) {
  if (!arguments.words().empty()) return report::graph_of(operations::load_plan(arguments.words()[0]).plan);
  // as it would be now
  operations::ChangeRequest request = change_request(session, arguments, "upgrade");
  request.solve.upgrade_all = true;
  request.look_at_files = false;
  auto proposed = operations::propose(session.root(), std::move(request));
  if (auto* const refused = std::get_if<operations::Refused>(&proposed.result))
    return report::graph_of(session.universe(), *refused);
  return report::graph_of(std::get<std::unique_ptr<operations::Proposal>>(proposed.result)->plan());
}

Graph refusal_graph(Session& session, const Arguments& arguments) {
  operations::ChangeRequest request = change_request(session, arguments, "install");
  operations::ask_for(session.root(), {.install = arguments.words()}, request);
  request.look_at_files = false;
  auto proposed = operations::propose(session.root(), std::move(request));
  if (auto* const refused = std::get_if<operations::Refused>(&proposed.result))
    return report::graph_of(session.universe(), *refused);
  throw Error(ErrorCode::Usage, fmt::format("nothing prevents installing {}", printable(join(arguments.words(), " "))),
              {}, "leave out --refused to see what it needs");
}

}  // namespace

int run_graph(Session& session, const Arguments& arguments) {
  using report::Form;
  const std::string mode = mode_of(arguments);
  const std::string file = output_file(arguments);
  const Form form = report::form_of(file, {Form::Svg, Form::Png, Form::Csv, Form::Dot});
  if (mode == "plan" && arguments.words().size() > 1)
    throw Error(ErrorCode::Usage, "--plan takes one file", {},
                "without a file it shows what `hambrel upgrade` would do");
  if (mode != "plan" && arguments.words().empty())
    throw Error(ErrorCode::Usage, "which packages?", {}, "for example: hambrel graph lampdesk -o needs.svg");
  session.tell_of_unusable_repositories();
  std::optional<Graph> whole;
  if (mode == "plan")
    whole = plan_graph(session, arguments);
  else if (mode == "refused")
    whole = refusal_graph(session, arguments);
  else
    whole = dependency_graph(session, arguments, mode);
  if (!whole) return exit_code(ErrorCode::Refused);
  if (whole->nodes.empty()) {
    session.say({{"result", "nothing to do"}}, "Nothing to draw: the plan changes no package.");
    return 0;
  }
  const Graph graph = report::made_clear(*whole);
  std::string bytes;
  report::Drawing drawing;
  if (form == Form::Dot) {
    bytes = report::dot_text(*whole);
  } else if (form == Form::Csv) {
    bytes = report::table_of(*whole).csv();
  } else {
    drawing = report::draw(graph);
    bytes = form == Form::Svg ? report::svg(drawing, true) : report::png(drawing, theme_of(arguments));
  }
  report::write_output(file, bytes);
  const bool is_folded = graph.nodes.size() != whole->nodes.size() && drawing.width > 0;
  session.say({{"file", file},
               {"packages", whole->nodes.size()},
               {"relations", whole->edges.size()},
               {"folded", is_folded},
               {"bytes", bytes.size()}},
              fmt::format("{}: {}, {}{}", printable(file), count_text(whole->nodes.size(), "package", "packages"),
                          count_text(whole->edges.size(), "relation", "relations"),
                          is_folded ? "; those further away are counted, not drawn (--depth N draws fewer)" : ""));
  return 0;
}

}  // namespace hambrel::cli
