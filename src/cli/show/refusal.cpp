#include "cli/show/refusal.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/plan.h"

namespace hambrel::cli {

namespace {

Json document_of(const Session& session, const operations::Refused& refused, const std::vector<std::string>& causes,
                 const plan::WaysOut& found) {
  Json ways = Json::array();
  for (const plan::Remedy& remedy : found.remedies)
    ways.push_back(
        {{"command", session.copyable(remedy.command())}, {"price", remedy.price()}, {"plan", to_json(remedy.plan)}});
  return {{"refused", refused.refusal.what},
          {"causes", causes},
          {"remedies", std::move(ways)},
          {"best_known", found.best_known}};
}

void print_remedies(const Session& session, const plan::WaysOut& found) {
  const Screen& screen = session.screen();
  const auto& remedies = found.remedies;
  if (remedies.empty() && !found.best_known.empty())
    screen.note(fmt::format("\nNo remedy was found: {}.", printable(found.best_known)));
  if (remedies.empty()) return;
  screen.note(remedies.size() == 1 ? "\nRemedy (tried out):" : "\nRemedies (each tried out):");
  for (std::size_t i = 0; i < remedies.size(); ++i) {
    screen.note(fmt::format("  {}  {}", screen.paint_error(Style::Strong, std::to_string(i + 1)),
                            screen.paint_error(Style::Come, session.copyable(remedies[i].command()))));
    screen.note(fmt::format("     {}; disk use {}", remedies[i].price(), change_text(remedies[i].plan.size_change())));
  }
}

}  // namespace

std::vector<plan::Remedy> show_refusal(Session& session, const operations::Refused& refused) {
  const Screen& screen = session.screen();
  std::vector<std::string> causes;
  for (const auto& cause : refused.refusal.causes) causes.push_back(cause.text(session.universe()));
  if (!session.json()) {
    screen.note(fmt::format("{} {}:", screen.paint_error(Style::Warn, "Refused:"), refused.refusal.what));
    for (const std::string& cause : causes) screen.note("  " + printable(cause));
  }
  auto found = operations::remedies_for(session.root(), refused);
  if (session.json())
    session.document(document_of(session, refused, causes, found));
  else
    print_remedies(session, found);
  return std::move(found.remedies);
}

}  // namespace hambrel::cli
