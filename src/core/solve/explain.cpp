#include "solve/explain.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "solve/encoding.h"

namespace hambrel::solve {

namespace {

constexpr std::size_t kMostShown = 4;

/// "5.4-1", "5.4-1 and 5.5-1", "5.4-1, 5.5-1 and 3 more"
std::string versions(const Universe& universe, const std::vector<PackageId>& ids) {
  std::string text;
  const std::size_t shown = ids.size() > kMostShown ? kMostShown - 1 : ids.size();
  for (std::size_t i = 0; i < shown; ++i) {
    if (i > 0) text += i + 1 == ids.size() ? " and " : ", ";
    text += universe.package(ids[i]).version.text();
  }
  if (shown < ids.size()) text += fmt::format(" and {} more", ids.size() - shown);
  return text;
}

std::string titles(const Universe& universe, const std::vector<PackageId>& ids) {
  std::string text, last;
  std::vector<PackageId> same;
  std::vector<std::string> parts;
  const auto flush = [&] {
    if (!same.empty()) parts.push_back(last + " " + versions(universe, same));
    same.clear();
  };
  for (const PackageId id : ids) {
    if (universe.package(id).name != last) flush();
    last = universe.package(id).name;
    same.push_back(id);
  }
  flush();
  return join(parts, ", ");
}

/// Orders the links so that each one speaks of something that was named before, as far as that goes.
std::vector<Cause> as_chain(const Universe& universe, std::vector<Cause> causes) {
  std::vector<Cause> chain;
  std::vector<std::string> named;
  const auto is_start = [](const Cause& cause) {
    return cause.kind == Cause::Kind::Asked || cause.kind == Cause::Kind::AskedToRemove;
  };
  const auto knows = [&](const Cause& cause) {
    return std::find(named.begin(), named.end(), cause.name) != named.end();
  };
  while (!causes.empty()) {
    auto next = std::find_if(causes.begin(), causes.end(), is_start);
    if (next == causes.end()) next = std::find_if(causes.begin(), causes.end(), knows);
    if (next == causes.end())
      next = std::find_if(causes.begin(), causes.end(),
                          [](const Cause& cause) { return cause.kind == Cause::Kind::Wanted; });
    if (next == causes.end()) next = causes.begin();
    named.push_back(next->name);
    for (const PackageId id : next->others) named.push_back(universe.package(id).name);
    chain.push_back(std::move(*next));
    causes.erase(next);
  }
  return chain;
}

}  // namespace

std::string Cause::text(const Universe& universe) const {
  const std::string subject = packages.empty() ? name : name + " " + versions(universe, packages);
  const char* const plural = packages.size() > 1 ? "" : "s";
  switch (kind) {
    case Kind::Asked: return fmt::format("{} was asked for", name);
    case Kind::AskedToRemove: return fmt::format("{} was to be removed", name);
    case Kind::LeftAlone: return fmt::format("{} was to be left as it is", subject);
    case Kind::Wanted: return fmt::format("{} is installed and wanted", subject);
    case Kind::Requires:
      if (others.empty()) {
        const auto elsewhere = universe.matching(parse_relation(relation, ""));
        if (elsewhere.empty()) return fmt::format("{} require{} {}, which nothing offers", subject, plural, relation);
        return fmt::format("{} require{} {}, which no followed channel offers: {} in {}", subject, plural, relation,
                           titles(universe, elsewhere), universe[elsewhere.front()].offers.front().title());
      }
      return fmt::format("{} require{} {}: {}", subject, plural, relation, titles(universe, others));
    case Kind::Conflicts:
      return fmt::format("{} conflict{} with {}: {}", subject, plural, relation, titles(universe, others));
    case Kind::Replaces: return fmt::format("{} replace{} {}: {}", subject, plural, relation, titles(universe, others));
  }
  return {};
}

Refusal explain(const Universe& universe, const Request& request) {
  Encoding encoding(universe, request, true);
  Cdcl& engine = encoding.engine();
  Refusal refusal;
  refusal.what = "this can't be done together with what is installed and wanted";
  if (engine.solve(encoding.selectors())) return refusal;
  std::vector<Lit> core = engine.core();
  // Made stable, then thinned out: whatever can be left out without the rest becoming satisfiable goes.
  std::sort(core.begin(), core.end(), [](Lit a, Lit b) { return a.code < b.code; });
  for (std::size_t i = core.size(); i-- > 0;) {
    std::vector<Lit> without = core;
    without.erase(without.begin() + static_cast<std::ptrdiff_t>(i));
    if (engine.solve(without)) continue;
    core = engine.core();
    std::sort(core.begin(), core.end(), [](Lit a, Lit b) { return a.code < b.code; });
    i = std::min(i, core.size());
  }
  std::vector<Cause> causes;
  for (const Lit selector : core) causes.push_back(encoding.cause(selector));
  refusal.causes = as_chain(universe, std::move(causes));
  return refusal;
}

}  // namespace hambrel::solve
