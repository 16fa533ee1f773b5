// The statements of an encoding: as causes to be told, and as a small problem of their own.
#include <algorithm>

#include "solve/encoding.h"

namespace hambrel::solve {

std::vector<Cause> Encoding::causes(const std::vector<std::size_t>& statements) const {
  std::vector<Cause> result;
  for (const std::size_t number : statements) {
    const Statement& one = statements_[number];
    Cause cause;
    cause.kind = one.kind;
    if (one.kind == Cause::Kind::Asked) {
      cause.name = request_.install[one.subject].text;
      cause.others = request_.install[one.subject].candidates;
      result.push_back(std::move(cause));
      continue;
    }
    const auto name = static_cast<NameId>(one.subject);
    cause.name = universe_.name(name);
    if (one.relation == kNone) {
      if (one.kind != Cause::Kind::AskedToRemove) cause.packages.push_back(one.package);
      result.push_back(std::move(cause));
      continue;
    }
    const auto relation = static_cast<RelationId>(one.relation);
    RelationList list = RelationList::Replaces;
    if (one.kind == Cause::Kind::Requires) list = RelationList::Requires;
    if (one.kind == Cause::Kind::Conflicts) list = RelationList::Conflicts;
    cause.relation = universe_.text(relation);
    for (const PackageId id : universe_.versions_of(name)) {
      const auto relations = universe_.relations(id, list);
      if (lit(id) != ~truth() && std::find(relations.begin(), relations.end(), relation) != relations.end())
        cause.packages.push_back(id);
    }
    for (const PackageId id : universe_.matching(relation))
      if (lit(id) != ~truth() && (list == RelationList::Requires || universe_.name_id(id) != name))
        cause.others.push_back(id);
    result.push_back(std::move(cause));
  }
  return result;
}

Encoding::Extract Encoding::extract(const std::vector<std::size_t>& statements) const {
  Extract part;
  std::vector<Var> own(engine_.variables(), kNone);
  const auto here = [&](Lit lit) {
    Var& var = own[lit.var()];
    if (var == kNone) var = part.engine.new_variable(true);
    return lit.negative() ? negative(var) : positive(var);
  };
  const auto literals = [&](const Kept& one) { return std::span(kept_lits_).subspan(one.start, one.size); };
  part.engine.add({here(truth())});
  std::vector<std::uint8_t> in(statements_.size(), 0);
  for (const std::size_t one : statements) {
    in[one] = 1;
    part.selectors.push_back(here(statements_[one].selector));
  }
  std::vector<Lit> clause;
  std::vector<const Kept*> always;
  for (const Kept& one : kept_) {
    if (one.statement == kAlways) {
      always.push_back(&one);
    } else if (in[one.statement] != 0) {
      clause.assign({~here(statements_[one.statement].selector)});
      for (const Lit lit : literals(one)) clause.push_back(here(lit));
      part.engine.add(clause);
    }
  }
  for (bool more = true; more;) {  // these link nothing but the versions in one slot
    more = false;
    std::erase_if(always, [&](const Kept* one) {
      const auto lits = literals(*one);
      if (std::none_of(lits.begin(), lits.end(),
                       [&](Lit lit) { return lit.var() != truth().var() && own[lit.var()] != kNone; }))
        return false;
      clause.clear();
      for (const Lit lit : lits) clause.push_back(here(lit));
      part.engine.add(clause);
      return more = true;
    });
  }
  return part;
}

}  // namespace hambrel::solve
