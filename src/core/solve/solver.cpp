#include "solve/solver.h"

#include <algorithm>
#include <functional>

#include "solve/encoding.h"
#include "solve/explain.h"

namespace hambrel::solve {

namespace {

/// Tries preferences one after another on a problem that is known to have a solution.
class Preferences {
 public:
  Preferences(const Universe& universe, const Request& request, Encoding& encoding)
      : universe_(universe), request_(request), encoding_(encoding) {}

  /// The order of solver.md, each step greedy: what could be kept is never given up for a later step.
  void run() {
    const bool upgrading = request_.upgrade_all || !request_.upgrade.empty();
    no_downgrades();
    if (upgrading) upgrades();
    keep_names();
    for (const Target& target : request_.install) first_possible(target.candidates);
    keep_versions();
    if (request_.recommended) recommended();
    few_new();
    first_alternatives();
    newest_new();
    few_new();
  }

 private:
  /// Makes the literal a fact if that is possible.
  bool attempt(Lit lit) {
    if (!encoding_.engine().model(lit)) {
      const Lit assumed[] = {lit};
      if (!encoding_.engine().solve(assumed)) return false;  // the engine keeps the last model until it finds another
    }
    encoding_.engine().add({lit});
    return true;
  }

  /// Makes "one of these is chosen" a fact if that is possible. No search where the last model shows it already.
  void attempt_one_of(const std::vector<PackageId>& ids) {
    if (std::none_of(ids.begin(), ids.end(), [&](PackageId id) { return chosen(id); })) {
      attempt(encoding_.one_of(ids));
      return;
    }
    std::vector<Lit> clause;
    for (const PackageId id : ids)
      if (encoding_.has(id)) clause.push_back(encoding_.lit(id));
    encoding_.engine().add(std::move(clause));
  }

  bool is_new(PackageId id) const { return !universe_[id].installed; }
  bool chosen(PackageId id) const { return encoding_.has(id) && encoding_.engine().model(encoding_.lit(id)); }

  void no_downgrades() {
    for (const PackageId id : universe_.installed())
      for (const PackageId other : universe_.versions_of(universe_.package(id).name))
        if (encoding_.has(other) && universe_.package(other).version < universe_.package(id).version)
          attempt(~encoding_.lit(other));
  }

  void keep_names() {
    for (const PackageId id : universe_.installed()) {
      const std::string& name = universe_.package(id).name;
      if (request_.remove.contains(name)) continue;
      auto staying = encoding_.preferred(name);
      const auto instead = encoding_.replacers(id);
      staying.insert(staying.end(), instead.begin(), instead.end());
      attempt_one_of(staying);
    }
  }

  bool first_possible(const std::vector<PackageId>& ids) {
    return std::any_of(ids.begin(), ids.end(),
                       [&](PackageId id) { return encoding_.has(id) && attempt(encoding_.lit(id)); });
  }

  void upgrades() {
    for (const Reason turn : {Reason::Wanted, Reason::PulledIn})
      for (const PackageId id : universe_.installed()) {
        const std::string& name = universe_.package(id).name;
        if (universe_[id].installed->reason != turn || request_.except.contains(name)) continue;
        if (!request_.upgrade_all && !request_.upgrade.contains(name)) continue;
        if (first_possible(encoding_.replacers(id))) continue;
        std::vector<PackageId> better;
        for (const PackageId other : encoding_.preferred(name))
          if (universe_.package(other).version >= universe_.package(id).version) better.push_back(other);
        first_possible(better);
      }
  }

  void keep_versions() {
    for (const PackageId id : universe_.installed())
      if (!request_.remove.contains(universe_.package(id).name)) attempt(encoding_.lit(id));
  }

  /// What new packages recommend; what comes in that way may recommend more.
  void recommended() {
    std::set<std::pair<PackageId, std::size_t>> tried;
    for (bool again = true; again;) {
      again = false;
      for (const PackageId id : encoding_.chosen()) {
        if (!is_new(id)) continue;
        const auto& relations = universe_.package(id).recommends;
        for (std::size_t i = 0; i < relations.size(); ++i) {
          if (!tried.emplace(id, i).second) continue;
          std::vector<PackageId> providers;
          for (const PackageId other : universe_.matching(relations[i]))
            if (encoding_.has(other)) providers.push_back(other);
          if (!providers.empty()) attempt_one_of(providers);
          again = true;
        }
      }
    }
  }

  /// Drops new packages that nothing calls for. One provider is not traded for another: no new name may come in.
  void few_new() {
    std::set<std::string> names;
    std::vector<PackageId> absent;
    for (const PackageId id : encoding_.chosen())
      if (is_new(id)) names.insert(universe_.package(id).name);
    for (const PackageId id : encoding_.cone())
      if (is_new(id) && !names.contains(universe_.package(id).name)) absent.push_back(id);
    const Lit nothing_else = encoding_.none_of(absent);
    for (auto name = names.rbegin(); name != names.rend(); ++name) {
      if (universe_.installed_of(*name)) continue;
      const Lit without = encoding_.none_of(universe_.versions_of(*name));
      const Lit assumed[] = {without, nothing_else};
      if (encoding_.engine().solve(assumed)) encoding_.engine().add({without});
    }
  }

  /// "a | b": a, unless something that meets b stays or comes anyway.
  void first_alternatives() {
    for (const PackageId id : encoding_.chosen()) {
      if (!is_new(id)) continue;
      for (const Relation& relation : universe_.package(id).requires_) {
        if (relation.alternatives.size() < 2) continue;
        const auto all = universe_.matching(relation);
        if (std::any_of(all.begin(), all.end(), [&](PackageId one) { return chosen(one) && !is_new(one); })) continue;
        for (const Constraint& one : relation.alternatives) {
          const auto ids = universe_.matching(one);
          if (std::any_of(ids.begin(), ids.end(), [&](PackageId other) { return chosen(other); })) break;
          if (first_possible(ids)) break;
        }
      }
    }
  }

  void newest_new() {
    for (const PackageId id : encoding_.chosen()) {
      if (!chosen(id) || !is_new(id)) continue;
      const std::string& name = universe_.package(id).name;
      if (universe_.installed_of(name)) continue;  // was decided by upgrades(), targets or keep_versions()
      for (const PackageId better : encoding_.preferred(name))
        if (better == id || attempt(encoding_.lit(better))) break;
    }
  }

  const Universe& universe_;
  const Request& request_;
  Encoding& encoding_;
};

}  // namespace

std::vector<PackageId> unneeded(const Universe& universe, const std::vector<PackageId>& set,
                                const std::set<PackageId>& wanted) {
  const std::set<PackageId> members(set.begin(), set.end());
  std::set<PackageId> needed;
  std::vector<PackageId> queue;
  const auto need = [&](PackageId id) {
    if (members.contains(id) && needed.insert(id).second) queue.push_back(id);
  };
  for (const PackageId id : wanted) need(id);
  while (!queue.empty()) {
    const Package& package = universe.package(queue.back());
    queue.pop_back();
    for (const auto* relations : {&package.requires_, &package.recommends, &package.suggests})
      for (const Relation& relation : *relations)
        for (const PackageId id : universe.matching(relation)) need(id);
  }
  std::vector<PackageId> result;
  for (const PackageId id : set)
    if (!needed.contains(id)) result.push_back(id);
  return result;
}

std::variant<Selection, Refusal> solve(const Universe& universe, const Request& request) {
  Encoding encoding(universe, request, false);
  if (!encoding.engine().solve({})) return explain(universe, request);
  Preferences(universe, request, encoding).run();
  Selection selection{encoding.chosen(), encoding.engine().conflicts()};
  if (!request.drop_unneeded) return selection;
  std::set<PackageId> wanted;
  for (const PackageId id : selection.chosen) {
    const auto& installed = universe[id].installed;
    const bool asked = std::any_of(request.install.begin(), request.install.end(), [&](const Target& target) {
      return std::find(target.candidates.begin(), target.candidates.end(), id) != target.candidates.end();
    });
    const auto before = universe.installed_of(universe.package(id).name);
    const bool was_wanted = before && universe[*before].installed->reason == Reason::Wanted;
    if (asked || was_wanted || (installed && installed->reason == Reason::Wanted)) wanted.insert(id);
  }
  // a replacement inherits what it replaces
  for (const PackageId id : universe.installed()) {
    if (universe[id].installed->reason != Reason::Wanted) continue;
    for (const PackageId other : encoding.replacers(id))
      if (std::binary_search(selection.chosen.begin(), selection.chosen.end(), other)) wanted.insert(other);
  }
  for (const PackageId id : unneeded(universe, selection.chosen, wanted))
    selection.chosen.erase(std::find(selection.chosen.begin(), selection.chosen.end(), id));
  return selection;
}

}  // namespace hambrel::solve
