#include "solve/explain.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "solve/encoding.h"
#include "solve/optimize.h"

namespace hambrel::solve {

namespace {

constexpr std::size_t kMostShown = 4, kMostNames = 6;

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
  const std::size_t more = parts.size() > kMostNames ? parts.size() - kMostNames : 0;
  parts.resize(parts.size() - more);
  return join(parts, ", ") + (more > 0 ? fmt::format(" and {} more", more) : "");
}

/// What there is of the names in a relation that nothing meets: ", which is not available; there are lib 2-1 and 3-1".
std::string not_available(const Universe& universe, const std::string& relation) {
  std::vector<PackageId> others;
  for (const Constraint& one : parse_relation(relation, "").alternatives)
    for (const PackageId id : universe.providers_of(one.name))
      if (universe.offered(id) && std::find(others.begin(), others.end(), id) == others.end()) others.push_back(id);
  if (others.empty()) return ", which is not available";
  return fmt::format(", which is not available (there {} {})", others.size() == 1 ? "is" : "are",
                     titles(universe, others));
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
        return cause.kind == Cause::Kind::Wanted || cause.kind == Cause::Kind::Essential ||
               cause.kind == Cause::Kind::Held;
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
    case Kind::AskedToRemove: return fmt::format("you asked to remove {}", name);
    case Kind::LeftAlone: return fmt::format("{} was to stay as it is", subject);
    case Kind::Held: {
      const auto& installed = universe[packages.front()].installed;
      const std::string why = installed && installed->hold ? installed->hold->reason : "";
      return fmt::format("{} is held{}{}", subject, why.empty() ? "" : ": ", why);
    }
    case Kind::Wanted: return fmt::format("{} is installed and wanted", subject);
    case Kind::Essential: return fmt::format("{} is essential (--allow-essential {} allows this)", subject, name);
    case Kind::Requires:
      if (others.empty()) {
        const auto elsewhere = universe.matching(parse_relation(relation, ""));
        if (elsewhere.empty())
          return fmt::format("{} require{} {}{}", subject, plural, relation, not_available(universe, relation));
        if (universe.is_license_refused(elsewhere.front()))
          return fmt::format("{} require{} {}: {} is under {}, which hambrel.toml refuses", subject, plural, relation,
                             titles(universe, elsewhere), universe.package(elsewhere.front()).license);
        return fmt::format("{} require{} {}, which no followed channel has: {} in {}", subject, plural, relation,
                           titles(universe, elsewhere), universe[elsewhere.front()].offers.front().title());
      }
      return fmt::format("{} require{} {}: {}", subject, plural, relation, titles(universe, others));
    case Kind::Conflicts:
      return fmt::format("{} conflict{} with {}: {}", subject, plural, relation, titles(universe, others));
    case Kind::Replaces: return fmt::format("{} replace{} {}: {}", subject, plural, relation, titles(universe, others));
  }
  return {};
}

Explainer::Explainer(const Universe& universe, const Request& request)
    : encoding_(universe, request, Encoding::Scope::Full, Encoding::Selectors::All), budget_(request.budget) {
  const auto& statements = encoding_.statements();
  by_variable_.assign(encoding_.engine().variables(), 0);
  for (std::size_t i = 0; i < statements.size(); ++i) {
    by_variable_[statements[i].selector.var()] = i;
    selectors_.push_back(statements[i].selector);
  }
}

/// The places of the statements whose selectors are in a core, ascending.
std::vector<std::size_t> Explainer::statements_in(const std::vector<Lit>& core) const {
  std::vector<std::size_t> result;
  for (const Lit lit : core) result.push_back(by_variable_[lit.var()]);
  std::sort(result.begin(), result.end());
  return result;
}

/// Thinned out on an engine of its own, which holds little more than the core: whatever can be left out without the
/// rest becoming satisfiable goes.
std::vector<std::size_t> Explainer::minimal(const std::vector<std::size_t>& core) const {
  auto [engine, selectors] = encoding_.extract(core);
  engine.set_budget(budget_);
  std::vector<Lit> left = selectors;
  for (std::size_t i = left.size(); i-- > 0;) {
    std::vector<Lit> without = left;
    without.erase(without.begin() + static_cast<std::ptrdiff_t>(i));
    if (without.empty() || engine.solve(without) != Answer::No) continue;
    const auto& refuted = engine.core();
    std::erase_if(without, [&](Lit lit) { return std::find(refuted.begin(), refuted.end(), lit) == refuted.end(); });
    left = std::move(without);
    i = std::min(i, left.size());
  }
  std::vector<std::size_t> result;
  for (std::size_t i = 0; i < core.size(); ++i)
    if (std::find(left.begin(), left.end(), selectors[i]) != left.end()) result.push_back(core[i]);
  return result;
}

Refusal Explainer::explain() {
  Refusal refusal;
  refusal.explainer = shared_from_this();
  refusal.what = "this is not possible";
  encoding_.engine().set_budget(budget_);
  if (encoding_.engine().solve(selectors_) != Answer::No) {
    refusal.what = "this cannot be done; the reason was not found in the time allowed";
    refusal.decided = false;
    return refusal;
  }
  refusal.causes = as_chain(encoding_.universe(), encoding_.causes(minimal(statements_in(encoding_.engine().core()))));
  const bool is_against_installed = std::any_of(refusal.causes.begin(), refusal.causes.end(), [](const Cause& cause) {
    return cause.kind == Cause::Kind::Wanted || cause.kind == Cause::Kind::Essential ||
           cause.kind == Cause::Kind::Held || cause.kind == Cause::Kind::LeftAlone;
  });
  if (is_against_installed) refusal.what = "this conflicts with what is installed and wanted";
  return refusal;
}

const Cdcl& Explainer::all_but(Cause::Kind kind) {
  const auto [place, is_new] = all_but_.try_emplace(kind);
  if (!is_new) return place->second;
  place->second = encoding_.engine();
  for (const Encoding::Statement& one : encoding_.statements())
    if (one.kind != kind) place->second.add({one.selector});
  return place->second;
}

std::optional<std::vector<std::string>> Explainer::fewest(Cause::Kind kind, const std::string& first,
                                                          const Names& keep) {
  Cdcl engine = all_but(kind);
  std::vector<Soft> softs;
  const auto name_of = [&](const Encoding::Statement& one) {
    return encoding_.universe().name(static_cast<NameId>(one.subject));
  };
  for (const Encoding::Statement& one : encoding_.statements()) {
    if (one.kind != kind) continue;
    if (name_of(one) == first)
      engine.add({~one.selector});
    else if (keep.contains(name_of(one)))
      engine.add({one.selector});
    else
      softs.push_back({one.selector, 1});
  }
  engine.set_budget(budget_);
  if (engine.solve({}) != Answer::Yes) return std::nullopt;
  minimize(engine, softs);
  std::vector<std::string> names;
  if (!first.empty()) names.push_back(first);
  for (const Encoding::Statement& one : encoding_.statements())
    if (one.kind == kind && name_of(one) != first && !engine.model(one.selector)) names.emplace_back(name_of(one));
  return names;
}

}  // namespace hambrel::solve
