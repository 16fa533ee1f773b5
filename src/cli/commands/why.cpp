// why, needs, needed-by.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/commands/output.h"
#include "cli/show/package.h"
#include "cli/show/plan.h"
#include "cli/show/refusal.h"

namespace hambrel::cli {

namespace {

int refused(Session& session, const operations::Refused& refusal) {
  show_refusal(session, refusal);
  return exit_code(ErrorCode::Refused);
}

}  // namespace

std::size_t depth_of(const Arguments& arguments) {
  const auto given = arguments.value("depth");
  if (!given) return 0;
  const auto depth = parse_number(*given);
  if (!depth || *depth == 0 || *depth > 1000)
    throw Error(ErrorCode::Usage, fmt::format("--depth {}: must be 1 or more", printable(*given)));
  return *depth;
}

int run_needs(Session& session, const Arguments& arguments) {
  session.tell_of_unusable_repositories();
  const auto found = operations::needs(session.root(), parse_spec(arguments.words()[0]), depth_of(arguments));
  if (const auto* const refusal = std::get_if<operations::Refused>(&found)) return refused(session, *refusal);
  show(session, std::get<std::vector<operations::TreeLine>>(found));
  return 0;
}

int run_needed_by(Session& session, const Arguments& arguments) {
  session.tell_of_unusable_repositories();
  const auto lines = operations::needed_by(session.root(), parse_spec(arguments.words()[0]), depth_of(arguments));
  show(session, lines);
  if (lines.size() == 1 && !session.json()) session.screen().line("  no installed package requires it");
  return 0;
}

int run_why(Session& session, const Arguments& arguments) {
  session.tell_of_unusable_repositories();
  const auto why = operations::why(session.root(), parse_spec(arguments.words()[0]));
  if (const auto* const refusal = std::get_if<operations::Refused>(&why.otherwise)) return refused(session, *refusal);
  const Package& package = session.universe().package(why.id);
  if (why.installed) {
    if (why.chain.empty() && !session.json())
      session.screen().line(fmt::format("{} was pulled in and nothing wanted needs it any more: {}", package.title(),
                                        session.copyable("hambrel remove " + package.name)));
    show(session, why.chain);
    return 0;
  }
  const plan::Plan& plan = std::get<std::unique_ptr<operations::Proposal>>(why.otherwise)->plan();
  if (session.json()) {
    session.document({{"plan", to_json(plan)}, {"result", "nothing prevents it"}});
    return 0;
  }
  session.screen().line("It is not installed because nobody asked for it; nothing prevents it.");
  session.screen().line();
  print_plan(session, plan);
  return 0;
}

}  // namespace hambrel::cli
