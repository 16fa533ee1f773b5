#include "cli/show/refusal.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/plan.h"

namespace hambrel::cli {

namespace {

Json document_of(Session& session, const operations::Refused& refused, const plan::WaysOut& found) {
  Json ways = Json::array(), causes = Json::array();
  for (const auto& cause : refused.refusal.causes) causes.push_back(cause.text(session.universe()));
  for (const plan::Remedy& remedy : found.remedies)
    ways.push_back(
        {{"command", session.copyable(remedy.command())}, {"price", remedy.price()}, {"plan", to_json(remedy.plan)}});
  return {{"refused", refused.refusal.what},
          {"causes", std::move(causes)},
          {"remedies", std::move(ways)},
          {"best_known", found.best_known}};
}

/// A command that can be read: of one with hundreds of names, as a pattern makes it, the beginning.
std::string readable(const std::string& command) {
  constexpr std::size_t kMostWords = 48, kShown = 12;
  const std::vector<std::string_view> words = split(command, ' ');
  if (words.size() <= kMostWords) return command;
  return fmt::format("{} ... and {} more words (all of it with --json)",
                     fmt::join(words.begin(), words.begin() + kShown, " "), words.size() - kShown);
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
                            screen.paint_error(Style::Come, readable(session.copyable(remedies[i].command())))));
    screen.note(fmt::format("     {}; disk use {}", remedies[i].price(), change_text(remedies[i].plan.size_change())));
  }
}

}  // namespace

std::vector<plan::Remedy> show_refusal(Session& session, const operations::Refused& refused) {
  const Screen& screen = session.screen();
  if (!session.json()) {
    screen.note(fmt::format("{} {}:", screen.paint_error(Style::Warn, "Refused:"), refused.refusal.what));
    for (const std::string& cause : refused.refusal.sentences(session.universe())) screen.note("  " + printable(cause));
  }
  auto found = operations::remedies_for(session.root(), refused);
  if (session.json())
    session.document(document_of(session, refused, found));
  else
    print_remedies(session, found);
  return std::move(found.remedies);
}

}  // namespace hambrel::cli
