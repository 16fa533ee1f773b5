// why, needs, needed-by.
#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/plan.h"
#include "plan/trees.h"
#include "solve/solver.h"

namespace hambrel::cli {

namespace {

using plan::TreeLine;

/// The package that a spec means here: the installed version if it fits, else the best candidate.
PackageId one_package(Session& session, const Spec& spec) {
  const auto ids = operations::select(session.root(), spec);
  const auto installed =
      std::find_if(ids.begin(), ids.end(), [&](PackageId id) { return session.universe()[id].installed.has_value(); });
  return installed == ids.end() ? ids.front() : *installed;
}

void print_tree(Session& session, const std::vector<TreeLine>& lines) {
  const Universe& universe = session.universe();
  const Screen& screen = session.screen();
  for (const TreeLine& line : lines) {
    const Candidate& one = universe[line.id];
    if (session.json()) {
      screen.line(canonical({{"depth", line.depth},
                             {"name", one.package.name},
                             {"version", one.package.version.text()},
                             {"relation", line.relation},
                             {"folded", line.folded},
                             {"installed", one.installed.has_value()}}));
      continue;
    }
    std::string text = std::string(2 * line.depth, ' ') + screen.paint(Style::Name, one.package.name) + " " +
                       one.package.version.text();
    if (!line.relation.empty()) text += "  " + screen.paint(Style::Faint, line.relation);
    if (line.folded) text += "  " + screen.paint(Style::Faint, "(as above)");
    if (one.installed && one.installed->reason == Reason::Wanted) text += "  wanted";
    screen.line(text);
  }
}

std::size_t depth_of(const Arguments& arguments) {
  const auto given = arguments.value("depth");
  if (!given) return 0;
  const auto depth = parse_number(*given);
  if (!depth || *depth == 0 || *depth > 1000)
    throw Error(ErrorCode::Usage, fmt::format("--depth {}: a number from 1 was expected", printable(*given)));
  return *depth;
}

operations::ChangeRequest request_for(Session& session, const Spec& spec) {
  operations::ChangeRequest request;
  request.kind = "install";
  request.look_at_files = false;
  request.solve.install.push_back({spec.text, operations::select(session.root(), spec)});
  if (spec.kind == Spec::Kind::Channel) request.solve.channels.insert(spec.channel);
  return request;
}

}  // namespace

int run_needs(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  const std::size_t depth = depth_of(arguments);
  session.root().add_files(specs);
  session.tell_of_unusable_repositories();
  const PackageId id = one_package(session, specs[0]);
  std::vector<PackageId> set = session.universe().installed();
  if (!session.universe()[id].installed) {
    auto answer = operations::choose(session.root(), request_for(session, specs[0]));
    if (const auto* refused = std::get_if<operations::Refused>(&answer)) {
      print_refusal(session, *refused);
      return exit_code(ErrorCode::Refused);
    }
    set = std::get<std::vector<PackageId>>(std::move(answer));
  }
  // the version that would really be chosen, which may be another one than the newest
  PackageId top = id;
  for (const PackageId other : set)
    if (session.universe().package(other).name == session.universe().package(id).name) top = other;
  print_tree(session, plan::needs_tree(session.universe(), set, top, depth));
  return 0;
}

int run_needed_by(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  const std::size_t depth = depth_of(arguments);
  session.root().add_files(specs);
  session.tell_of_unusable_repositories();
  const PackageId id = one_package(session, specs[0]);
  if (!session.universe()[id].installed)
    throw Error(ErrorCode::Refused, fmt::format("{} is not installed, so nothing installed needs it", specs[0].text),
                {}, fmt::format("hambrel needs {} shows what it would need", specs[0].text));
  const auto lines = plan::needed_by_tree(session.universe(), session.universe().installed(), id, depth);
  print_tree(session, lines);
  if (lines.size() == 1 && !session.json()) session.screen().line("  nothing installed requires it");
  return 0;
}

int run_why(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  session.root().add_files(specs);
  session.tell_of_unusable_repositories();
  const Universe& universe = session.universe();
  const PackageId id = one_package(session, specs[0]);
  if (universe[id].installed) {
    const auto chain = plan::why_installed(universe, id);
    if (chain.empty() && !session.json())
      session.screen().line(fmt::format("{} was pulled in, and nothing wanted needs it any more: {}",
                                        universe.package(id).title(),
                                        session.copyable("hambrel remove " + universe.package(id).name)));
    print_tree(session, chain);
    return 0;
  }
  const auto proposed = operations::propose(session.root(), request_for(session, specs[0]));
  if (const auto* refused = std::get_if<operations::Refused>(&proposed.result)) {
    print_refusal(session, *refused);
    return exit_code(ErrorCode::Refused);
  }
  const plan::Plan& plan = std::get<std::unique_ptr<operations::Proposal>>(proposed.result)->plan();
  if (session.json()) {
    session.screen().line(canonical({{"plan", to_json(plan)}, {"result", "nothing stands against it"}}));
    return 0;
  }
  session.screen().line("It is not installed, because nobody asked for it; nothing stands against it.");
  session.screen().line();
  print_plan(session, plan);
  return 0;
}

}  // namespace hambrel::cli
