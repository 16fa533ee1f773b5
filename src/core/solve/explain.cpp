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
      next = std::find_if(causes.begin(), causes.end(), [](const Cause& cause) {
        return cause.kind == Cause::Kind::Wanted || cause.kind == Cause::Kind::Held;
      });
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
    case Kind::Held: {
      const auto& installed = universe[packages.front()].installed;
      const std::string why = installed && installed->hold ? installed->hold->reason : "";
      return fmt::format("{} is held{}{}", subject, why.empty() ? "" : ": ", why);
    }
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

namespace {

/// The places of the statements whose selectors are in a core, ascending.
std::vector<std::size_t> statements_in(const std::vector<Lit>& core, const std::vector<std::size_t>& by_variable) {
  std::vector<std::size_t> result;
  for (const Lit lit : core) result.push_back(by_variable[lit.var()]);
  std::sort(result.begin(), result.end());
  return result;
}

}  // namespace

Refusal explain(const Universe& universe, const Request& request) {
  Encoding encoding(universe, request, Encoding::Scope::Full, true);
  const auto& statements = encoding.statements();
  std::vector<std::size_t> by_variable(encoding.engine().variables(), 0);
  std::vector<Lit> selectors;
  for (std::size_t i = 0; i < statements.size(); ++i) {
    by_variable[statements[i].selector.var()] = i;
    selectors.push_back(statements[i].selector);
  }
  Refusal refusal;
  refusal.what = "this can't be done together with what is installed and wanted";
  encoding.engine().set_budget(request.budget);
  if (encoding.engine().solve(selectors) != Answer::No) {
    refusal.what = "this can't be done; why was not found in the time allowed";
    refusal.decided = false;
    return refusal;
  }
  // Thinned out on an engine of its own, which holds little more than the core: whatever can be left out without the
  // rest becoming satisfiable goes.
  std::vector<std::size_t> core = statements_in(encoding.engine().core(), by_variable);
  Cdcl engine = encoding.engine_for(core);
  engine.set_budget(request.budget);
  for (std::size_t i = core.size(); i-- > 0;) {
    std::vector<Lit> without;
    for (std::size_t k = 0; k < core.size(); ++k)
      if (k != i) without.push_back(statements[core[k]].selector);
    if (without.empty() || engine.solve(without) != Answer::No) continue;
    core = statements_in(engine.core(), by_variable);
    i = std::min(i, core.size());
  }
  refusal.causes = as_chain(universe, encoding.causes(core));
  return refusal;
}

}  // namespace hambrel::solve
