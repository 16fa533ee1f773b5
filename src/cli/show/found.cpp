#include "cli/show/found.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/json.h"
#include "base/text.h"
#include "build/collection.h"
#include "cli/show/package.h"
#include "cli/terminal/table.h"
#include "operations/supply.h"

namespace hambrel::cli {

namespace {

constexpr std::array<const char*, 6> kFoundTitles{"exact name",     "name starts with",   "in the name",
                                                  "in the summary", "in a provided name", "in the description"};

const char* title_of(const SearchHit& hit) { return kFoundTitles[static_cast<std::size_t>(hit.found)]; }

void print_hits(const Screen& screen, const Universe& universe, const std::vector<SearchHit>& hits) {
  for (std::size_t first = 0, next = 0; first < hits.size(); first = next) {
    while (next < hits.size() && hits[next].found == hits[first].found) ++next;
    if (first > 0) screen.line();
    screen.line(screen.paint(Style::Faint, title_of(hits[first])));
    const auto add = [&](Table& table, std::size_t i) {
      const PackageId id = hits[first + i].id;
      table.row({{universe.is_installed(id) ? "*" : " ", Style::Come},
                 {universe.name(id), Style::Name},
                 {universe.version(id)},
                 {Printable(universe.summary(id))}});
    };
    Table::of_rows(next - first, Table(2, Table::Last::Cut), add).print(screen);
  }
}

/// Recipes that repositories have: all words are in the name, the packages or the summary.
bool print_recipes(Session& session, const std::vector<std::string>& words, bool after_packages) {
  Table table(2, Table::Last::Cut);
  bool any = false;
  for (const build::Buildable& one : build::buildable(session.root())) {
    const std::string text = lower(one.recipe.name + " " + join(one.recipe.packages, " ") + " " + one.recipe.summary);
    if (!std::all_of(words.begin(), words.end(),
                     [&](const std::string& word) { return text.find(lower(word)) != std::string::npos; }))
      continue;
    any = true;
    if (session.json())
      session.document({{"name", one.recipe.name},
                        {"version", one.recipe.version},
                        {"summary", one.recipe.summary},
                        {"repository", one.repository.name},
                        {"found", "can be built"}});
    table.row({{" "}, {one.recipe.name, Style::Name}, {one.recipe.version}, {printable(one.recipe.summary)}});
  }
  if (!any || session.json()) return any;
  if (after_packages) session.screen().line();
  session.screen().line(session.screen().paint(Style::Faint, "can be built from source (hambrel build NAME)"));
  table.print(session.screen());
  return true;
}

}  // namespace

void show(Session& session, const std::vector<std::string>& words, const std::vector<SearchHit>& hits) {
  const Universe& universe = session.universe();
  const Screen& screen = session.screen();
  if (!session.json()) print_hits(screen, universe, hits);
  for (const SearchHit& hit : hits) {
    if (!session.json()) break;
    Json object = to_json(universe, hit.id);
    object["found"] = title_of(hit);
    session.document(object);
  }
  const bool found_recipes = print_recipes(session, words, !hits.empty());
  if (!hits.empty() || found_recipes || session.json()) return;
  screen.line(fmt::format("No package matches \"{}\".", printable(join(words, " "))));
  if (words.size() != 1) return;
  if (const std::string near = did_you_mean(lower(words[0]), universe.names()); !near.empty())
    screen.line("  -> " + near);
}

namespace {

/// "lampdesk 6.0.2-1 (skerry-harbour/beta)": what the repositories have with this path.
std::vector<std::string> offered_by(Session& session, const std::string& path) {
  std::vector<std::string> texts;
  try {
    const operations::Offering offering = operations::offered_with(session.root(), path);
    for (const PackageId id : offering.packages) {
      const Candidate& one = session.universe()[id];
      texts.push_back(fmt::format("{}{}", one.package.title(),
                                  one.offers.empty() ? "" : fmt::format(" ({})", one.offers.front().title())));
    }
    for (const std::string& one : offering.unsearched) session.progress().note("not searched: " + one);
  } catch (const Error& problem) {
    session.progress().note(fmt::format("the repositories could not be searched: {}", problem.what()));
  }
  return texts;
}

}  // namespace

bool add_owner(Session& session, Rows& rows, const std::string& path, bool with_offered) {
  const auto owners = operations::owners_of(session.root(), path);
  const auto maker = operations::maker_of(session.root(), path);
  const bool nobodys = owners.empty() && !maker;
  std::vector<std::string> told = owners, offered;
  if (nobodys && with_offered) offered = offered_by(session, path);
  const char* made_by = "hook";
  if (maker && maker->by_trigger) made_by = "trigger";
  if (maker && maker->program == operations::kCandidates) made_by = "candidate";
  if (maker && maker->program == operations::kCandidates)
    told.push_back(fmt::format("links to {}, the candidate of {}", printable(maker->entry.target), maker->package));
  else if (maker)
    told.push_back(fmt::format("made by the {} of {}: {}", made_by, maker->package, printable(maker->program)));
  std::string text = nobodys ? "is not owned by any package" : join(told, ", ");
  if (!offered.empty()) text = fmt::format("is not installed; available in {}", plan::some_of(offered));
  rows.add(
      [&] {
        Json made;
        if (maker) made = {{"kind", made_by}, {"package", maker->package}, {"program", maker->program}};
        return Json{{"path", "/" + path}, {"packages", owners}, {"made_by", std::move(made)}, {"available", offered}};
      },
      {{"/" + printable(path)}, {text, nobodys ? Style::Warn : Style::Name}});
  return !nobodys;
}

}  // namespace hambrel::cli
