#include "solve/explain.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/assert.h"
#include "base/text.h"
#include "solve/encoding.h"
#include "solve/optimize.h"

namespace hambrel::solve {

namespace {

constexpr std::size_t kMostShown = 4, kMostNames = 6;
constexpr std::size_t kShort = 5;             // causes: nobody looks for fewer
constexpr int kMostOthers = 4;                // explanations that are looked for when the first is longer
constexpr std::uint64_t kShareOfCauses = 16;  // the share of the budget that each of these gets

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

namespace {

/// One sentence about many causes of a kind. Nothing where they are not alike but for their names.
std::string together(Cause::Kind kind, std::vector<std::string> names) {
  const std::size_t more = names.size() - kMostNames;
  names.resize(kMostNames);
  const std::string these = fmt::format("{} and {} more", join(names, ", "), more);
  switch (kind) {
    case Cause::Kind::Asked: return these + " were asked for";
    case Cause::Kind::AskedToRemove: return "you asked to remove " + these;
    case Cause::Kind::LeftAlone: return these + " were to stay as they are";
    case Cause::Kind::Wanted: return these + " are installed and wanted";
    case Cause::Kind::Held:
    case Cause::Kind::Essential:
    case Cause::Kind::Requires:
    case Cause::Kind::Conflicts:
    case Cause::Kind::Replaces: return {};
  }
  return {};
}

}  // namespace

std::vector<std::string> Refusal::sentences(const Universe& universe) const {
  std::map<Cause::Kind, std::vector<std::string>> names;
  for (const Cause& cause : causes) names[cause.kind].push_back(cause.name);
  std::map<Cause::Kind, std::string> of_many;
  for (const auto& [kind, of_kind] : names)
    if (of_kind.size() > kMostNames) of_many[kind] = together(kind, of_kind);
  std::vector<std::string> sentences;
  for (const Cause& cause : causes) {
    std::string& shared = of_many[cause.kind];
    if (shared.empty())
      sentences.push_back(cause.text(universe));
    else if (names[cause.kind].front() == cause.name)
      sentences.push_back(shared);
  }
  return sentences;
}

namespace {

/// Thinned out on an engine of its own, which holds little more than the core: whatever can be left out without the
/// rest becoming satisfiable goes.
std::vector<std::size_t> minimal(const Encoding& encoding, const std::vector<std::size_t>& core, std::uint64_t budget) {
  HAMBREL_ASSERT(!core.empty(), "something is to be thinned out");
  auto [engine, selectors] = encoding.extract(core);
  HAMBREL_ASSERT(selectors.size() == core.size(), "each statement has its selector");
  engine.set_budget(budget);
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
  HAMBREL_ASSERT(!left.empty(), "nothing contradicts itself");
  for (std::size_t i = 0; i < core.size(); ++i)
    if (std::find(left.begin(), left.end(), selectors[i]) != left.end()) result.push_back(core[i]);
  return result;
}

/// The places of the statements whose selectors are in a core, ascending.
std::vector<std::size_t> statements_in(const Encoding& encoding, const std::vector<Lit>& core) {
  const auto& statements = encoding.statements();
  std::vector<std::uint8_t> in(encoding.variables(), 0);
  for (const Lit lit : core) in[lit.var()] = 1;
  std::vector<std::size_t> result;
  for (std::size_t i = 0; i < statements.size(); ++i)
    if (in[statements[i].selector.var()] != 0) result.push_back(i);
  return result;
}

bool is_about_installed(const Cause& cause) {
  return cause.kind == Cause::Kind::Wanted || cause.kind == Cause::Kind::Essential || cause.kind == Cause::Kind::Held ||
         cause.kind == Cause::Kind::LeftAlone;
}

}  // namespace

Explainer::Explainer(const Universe& universe, const Request& request)
    : Explainer(std::make_shared<Encoding>(universe, request, Encoding::Scope::Full, Encoding::Selectors::Roots)) {}

Explainer::Explainer(std::shared_ptr<Encoding> roots) : roots_(std::move(roots)), budget_(roots_->request().budget) {}

std::optional<std::vector<std::size_t>> Explainer::find_clash(const std::vector<Lit>& standing, std::uint64_t budget) {
  roots_->engine().set_budget(budget);
  if (roots_->engine().solve(standing) != Answer::No) return std::nullopt;
  return statements_in(*roots_, roots_->engine().core());
}

std::vector<Cause> Explainer::find_causes(const std::vector<std::size_t>& clash, std::uint64_t budget) const {
  std::vector<NameId> names;
  for (const std::size_t i : clash) names.push_back(roots_->universe().name_id(roots_->statements()[i].package));
  Encoding near(roots_->universe(), roots_->request(), names);
  near.engine().set_budget(budget);
  if (near.engine().solve(near.selectors()) != Answer::No) return {};
  return near.causes(minimal(near, statements_in(near, near.engine().core()), budget));
}

Refusal Explainer::explain() {
  Refusal refusal;
  refusal.explainer = shared_from_this();
  refusal.what = "this is not possible";
  std::vector<Lit> standing = roots_->selectors();
  std::vector<Cause> causes;
  if (const auto clash = find_clash(standing, budget_)) {
    // remedies will ask this first; the engine is copied before it is asked again
    const bool is_about_wanted = std::any_of(clash->begin(), clash->end(), [&](std::size_t i) {
      return roots_->statements()[i].kind == Cause::Kind::Wanted;
    });
    Aside<void> copying;
    if (is_about_wanted && roots_->is_large()) copying = aside([&] { all_but(Cause::Kind::Wanted); });
    causes = find_causes(*clash, budget_);
    if (copying.valid()) {
      copying.get();
      fewest_wanted_ = aside([this] { return find_fewest(Cause::Kind::Wanted, ""); });
    }
  }
  if (causes.empty()) {
    refusal.what = "this cannot be done; the reason was not found in the time allowed";
    refusal.decided = false;
    return refusal;
  }
  // a shorter one, among those that do without a wanted package that the longer ones name
  std::vector<Cause> others = causes;
  for (int more = kMostOthers; more > 0 && std::min(causes.size(), others.size()) > kShort; --more) {
    const auto wanted = std::find_if(others.rbegin(), others.rend(),
                                     [](const Cause& cause) { return cause.kind == Cause::Kind::Wanted; });
    if (wanted == others.rend()) break;
    const auto name = roots_->universe().find_name(wanted->name);
    for (const Encoding::Statement& one : roots_->statements())
      if (one.kind == Cause::Kind::Wanted && roots_->universe().name_id(one.package) == name)
        std::erase(standing, one.selector);
    const auto clash = find_clash(standing, budget_ / kShareOfCauses);
    if (!clash) break;
    others = find_causes(*clash, budget_ / kShareOfCauses);
    if (others.empty()) break;
    if (others.size() < causes.size()) causes = others;
  }
  refusal.causes = as_chain(roots_->universe(), std::move(causes));
  if (std::any_of(refusal.causes.begin(), refusal.causes.end(), is_about_installed))
    refusal.what = "this conflicts with what is installed and wanted";
  return refusal;
}

const Cdcl& Explainer::all_but(Cause::Kind kind) {
  const auto [place, is_new] = all_but_.try_emplace(kind);
  if (!is_new) return place->second;
  place->second = roots_->engine();
  for (const Encoding::Statement& one : roots_->statements())
    if (one.kind != kind) place->second.add({one.selector});
  return place->second;
}

Explainer::Fewest Explainer::fewest(Cause::Kind kind, const std::string& first) {
  settle();
  if (known_fewest_wanted_ && kind == Cause::Kind::Wanted && first.empty()) return *known_fewest_wanted_;
  return find_fewest(kind, first);
}

void Explainer::settle() {
  if (fewest_wanted_.valid()) known_fewest_wanted_ = fewest_wanted_.get();
}

Explainer::Fewest Explainer::find_fewest(Cause::Kind kind, const std::string& first) {
  const Universe& universe = roots_->universe();
  Cdcl engine = all_but(kind);
  std::vector<Soft> softs;
  std::vector<std::uint8_t> stays(universe.name_count(), 0);
  if (kind == Cause::Kind::Wanted)
    for (const Target& target : roots_->request().install)
      if (!target.candidates.empty()) stays[static_cast<std::size_t>(universe.name_id(target.candidates.front()))] = 1;
  const auto first_name = universe.find_name(first);
  const auto is_first = [&](const Encoding::Statement& one) {
    return first_name && static_cast<NameId>(one.subject) == *first_name;
  };
  for (const Encoding::Statement& one : roots_->statements()) {
    if (one.kind != kind) continue;
    if (is_first(one))
      engine.add({~one.selector});
    else if (stays[one.subject] != 0)
      engine.add({one.selector});
    else
      softs.push_back({one.selector, 1});
  }
  engine.set_budget(budget_);
  if (engine.solve({}) != Answer::Yes) return std::nullopt;
  minimize(engine, softs, Assumed::All);
  std::vector<std::string> names;
  if (!first.empty()) names.push_back(first);
  for (const Encoding::Statement& one : roots_->statements())
    if (one.kind == kind && !is_first(one) && !engine.model(one.selector))
      names.emplace_back(universe.name(static_cast<NameId>(one.subject)));
  return names;
}

}  // namespace hambrel::solve
