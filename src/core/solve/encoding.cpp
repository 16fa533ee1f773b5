#include "solve/encoding.h"

#include <fmt/format.h>

#include <algorithm>

namespace hambrel::solve {

Encoding::Encoding(const Universe& universe, const Request& request, bool explain)
    : universe_(universe), request_(request), explain_(explain) {
  for (const PackageId id : universe.all())
    for (const Constraint& replaced : universe.package(id).replaces) replacing_[replaced.name].push_back(id);
  collect();
  make_variables();
  encode_request();
  encode_wanted();
  for (const PackageId id : cone_) encode_package(id);
  std::string last;
  for (const PackageId id : cone_) {
    const std::string& name = universe.package(id).name;
    if (name != last) encode_one_version(name);
    last = name;
  }
}

bool Encoding::may_choose(PackageId id) const {
  const Candidate& candidate = universe_[id];
  if (candidate.installed || candidate.offered()) return true;
  for (const Offer& offer : candidate.offers)
    if (request_.channels.contains(offer.channel)) return true;
  return std::any_of(request_.install.begin(), request_.install.end(), [&](const Target& target) {
    return std::find(target.candidates.begin(), target.candidates.end(), id) != target.candidates.end();
  });
}

void Encoding::reach(PackageId id, std::vector<PackageId>& queue) {
  if (reached_[index_of(id)] || !may_choose(id)) return;
  reached_[index_of(id)] = true;
  queue.push_back(id);
}

void Encoding::collect() {
  reached_.assign(universe_.size(), false);
  std::vector<PackageId> queue;
  for (const Target& target : request_.install)
    for (const PackageId id : target.candidates) reach(id, queue);
  for (const PackageId id : universe_.installed()) {
    reach(id, queue);
    for (const PackageId other : universe_.versions_of(universe_.package(id).name)) reach(other, queue);
    for (const PackageId other : replacers(id)) reach(other, queue);
  }
  while (!queue.empty()) {
    const Package& package = universe_.package(queue.back());
    queue.pop_back();
    for (const auto* relations : {&package.requires_, &package.recommends})
      for (const Relation& relation : *relations)
        for (const PackageId other : universe_.matching(relation)) reach(other, queue);
  }
  for (const PackageId id : universe_.all())
    if (reached_[index_of(id)]) cone_.push_back(id);
}

void Encoding::make_variables() {
  // The search falsifies undecided variables in the order in which they were made: the least preferred come first,
  // so that what is left over to meet a requirement is the preferred one.
  variables_.assign(universe_.size(), kNone);
  std::vector<PackageId> order;
  std::string last;
  for (auto id = cone_.rbegin(); id != cone_.rend(); ++id) {
    const std::string& name = universe_.package(*id).name;
    if (name == last) continue;
    last = name;
    const auto versions = preferred(name);
    order.insert(order.end(), versions.rbegin(), versions.rend());
  }
  for (const PackageId id : order) {
    const bool installed = universe_[id].installed.has_value();
    const bool upgrading =
        request_.upgrade_all && !installed && universe_.installed_of(universe_.package(id).name).has_value();
    const bool newest = upgrading && preferred(universe_.package(id).name).front() == id;
    variables_[index_of(id)] = engine_.new_variable(installed || newest);
  }
}

std::vector<PackageId> Encoding::in_cone(std::vector<PackageId> ids) const {
  ids.erase(std::remove_if(ids.begin(), ids.end(), [&](PackageId id) { return !reached_[index_of(id)]; }), ids.end());
  return ids;
}

std::vector<PackageId> Encoding::preferred(std::string_view name) const {
  std::vector<PackageId> ids = in_cone(universe_.versions_of(name));
  std::stable_partition(ids.begin(), ids.end(),
                        [&](PackageId id) { return universe_[id].installed || universe_[id].offered(); });
  return ids;
}

std::vector<PackageId> Encoding::replacers(PackageId installed) const {
  std::vector<PackageId> result;
  const Package& old = universe_.package(installed);
  const auto found = replacing_.find(old.name);
  if (found == replacing_.end()) return result;
  for (const PackageId id : found->second) {
    if (universe_.package(id).name == old.name || !may_choose(id)) continue;
    for (const Constraint& one : universe_.package(id).replaces)
      if (one.name == old.name && one.allows(old.version) && (result.empty() || result.back() != id))
        result.push_back(id);
  }
  return result;
}

std::vector<Lit> Encoding::lits(const std::vector<PackageId>& ids) const {
  std::vector<Lit> result;
  for (const PackageId id : ids)
    if (has(id)) result.push_back(lit(id));
  return result;
}

Lit Encoding::one_of(const std::vector<PackageId>& ids) {
  std::vector<Lit> clause = lits(ids);
  if (clause.size() == 1) return clause[0];
  const Lit all = positive(engine_.new_variable(true));
  clause.push_back(~all);
  engine_.add(std::move(clause));
  return all;
}

Lit Encoding::none_of(const std::vector<PackageId>& ids) {
  const Lit none = positive(engine_.new_variable(false));
  for (const Lit one : lits(ids)) engine_.add({~none, ~one});
  return none;
}

/// Adds a clause that belongs to a statement. Statements of the same kind, name and relation share one selector.
void Encoding::state(Cause::Kind kind, const std::string& name, const std::string& relation,
                     std::optional<PackageId> subject, const std::vector<PackageId>& others, std::vector<Lit> clause) {
  if (explain_) {
    const std::string key = fmt::format("{}\n{}\n{}", static_cast<int>(kind), name, relation);
    auto found = selector_of_.find(key);
    if (found == selector_of_.end()) {
      const Lit selector = positive(engine_.new_variable(true));
      found = selector_of_.emplace(key, selector).first;
      selectors_.push_back(selector);
      causes_[selector.code] = {kind, name, {}, relation, {}};
    }
    Cause& cause = causes_[found->second.code];
    if (subject && std::find(cause.packages.begin(), cause.packages.end(), *subject) == cause.packages.end())
      cause.packages.push_back(*subject);
    for (const PackageId other : others)
      if (std::find(cause.others.begin(), cause.others.end(), other) == cause.others.end())
        cause.others.push_back(other);
    clause.push_back(~found->second);
  }
  engine_.add(std::move(clause));
}

void Encoding::encode_request() {
  for (const Target& target : request_.install)
    state(Cause::Kind::Asked, target.text, "", std::nullopt, target.candidates, lits(target.candidates));
  for (const std::string& name : request_.remove)
    for (const PackageId id : in_cone(universe_.versions_of(name)))
      state(Cause::Kind::AskedToRemove, name, "", std::nullopt, {}, {~lit(id)});
}

void Encoding::encode_wanted() {
  for (const std::string& name : request_.except)
    if (const auto id = universe_.installed_of(name)) state(Cause::Kind::LeftAlone, name, "", *id, {}, {lit(*id)});
  for (const PackageId id : universe_.installed()) {
    const std::string& name = universe_.package(id).name;
    if (universe_[id].installed->reason != Reason::Wanted || request_.remove.contains(name)) continue;
    auto staying = in_cone(universe_.versions_of(name));
    const auto instead = in_cone(replacers(id));
    staying.insert(staying.end(), instead.begin(), instead.end());
    state(Cause::Kind::Wanted, name, "", id, {}, lits(staying));
  }
}

void Encoding::encode_package(PackageId id) {
  const Package& package = universe_.package(id);
  for (const Relation& relation : package.requires_) {
    const auto providers = in_cone(universe_.matching(relation));
    std::vector<Lit> clause = lits(providers);
    clause.push_back(~lit(id));
    state(Cause::Kind::Requires, package.name, relation.text(), id, providers, std::move(clause));
  }
  for (const Constraint& constraint : package.conflicts)
    for (const PackageId other : in_cone(universe_.matching(constraint)))
      if (universe_.package(other).name != package.name)
        state(Cause::Kind::Conflicts, package.name, constraint.text(), id, {other}, {~lit(id), ~lit(other)});
  for (const Constraint& constraint : package.replaces)
    for (const PackageId other : in_cone(universe_.versions_of(constraint.name)))
      if (universe_.package(other).name != package.name && constraint.allows(universe_.package(other).version))
        state(Cause::Kind::Replaces, package.name, constraint.text(), id, {other}, {~lit(id), ~lit(other)});
}

/// At most one of the versions: in pairs for a few, by a ladder of helpers (Sinz's sequential counter, 2005) for many.
void Encoding::encode_one_version(const std::string& name) {
  constexpr std::size_t kFew = 6;
  const auto versions = in_cone(universe_.versions_of(name));
  if (versions.size() <= kFew) {
    for (std::size_t i = 0; i < versions.size(); ++i)
      for (std::size_t k = i + 1; k < versions.size(); ++k) engine_.add({~lit(versions[i]), ~lit(versions[k])});
    return;
  }
  std::optional<Lit> before;  // "one of those so far"
  for (const PackageId id : versions) {
    const Lit so_far = positive(engine_.new_variable(false));
    engine_.add({~lit(id), so_far});
    if (before) engine_.add({~*before, so_far}), engine_.add({~*before, ~lit(id)});
    before = so_far;
  }
}

std::vector<PackageId> Encoding::chosen() const {
  std::vector<PackageId> result;
  for (const PackageId id : cone_)
    if (engine_.model(variables_[index_of(id)])) result.push_back(id);
  return result;
}

}  // namespace hambrel::solve
