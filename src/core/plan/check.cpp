// The independent check of a set: written from the meaning of the relations, not from the solver's encoding.
#include <fmt/format.h>

#include <map>

#include "plan/plan.h"

namespace hambrel::plan {

namespace {

/// Does a manifest answer to a constraint, by its name or by something it provides?
bool answers(const Package& package, const Constraint& constraint) {
  const auto fits = [&](const Version& version) {
    if (constraint.op == Operator::Any) return true;
    const int order = Version::compare_keys(version, constraint.version, constraint.version.has_revision());
    return (constraint.op == Operator::Equal && order == 0) || (constraint.op == Operator::NotEqual && order != 0) ||
           (constraint.op == Operator::Less && order < 0) || (constraint.op == Operator::LessEqual && order <= 0) ||
           (constraint.op == Operator::Greater && order > 0) || (constraint.op == Operator::GreaterEqual && order >= 0);
  };
  if (package.name == constraint.name && fits(package.version)) return true;
  for (const Constraint& provided : package.provides) {
    if (provided.name != constraint.name) continue;
    if (constraint.op == Operator::Any || (provided.op == Operator::Equal && fits(provided.version))) return true;
  }
  return false;
}

}  // namespace

std::vector<std::string> problems_of(const std::vector<Package>& set) {
  std::vector<std::string> problems;
  std::map<std::string, std::vector<const Package*>> answering;
  std::map<std::string, int> count;
  for (const Package& package : set) {
    answering[package.name].push_back(&package);
    for (const Constraint& provided : package.provides) answering[provided.name].push_back(&package);
    if (++count[package.name] == 2) problems.push_back(fmt::format("{} is there twice", package.name));
  }
  const auto met_by = [&](const Constraint& constraint, const Package& asking, bool by_itself) -> const Package* {
    for (const Package* one : answering[constraint.name])
      if ((by_itself || one->name != asking.name) && answers(*one, constraint)) return one;
    return nullptr;
  };
  for (const Package& package : set) {
    for (const Relation& relation : package.requires_) {
      bool met = false;
      for (const Constraint& one : relation.alternatives) met = met || met_by(one, package, true) != nullptr;
      if (!met) problems.push_back(fmt::format("{} requires {}", package.title(), relation.text()));
    }
    for (const Constraint& one : package.conflicts)
      if (const Package* other = met_by(one, package, false))
        problems.push_back(fmt::format("{} conflicts with {}", package.title(), other->title()));
    for (const Constraint& one : package.replaces)
      for (const Package* other : answering[one.name])
        if (other->name == one.name && other->name != package.name && one.allows(other->version))
          problems.push_back(fmt::format("{} replaces {}", package.title(), other->title()));
  }
  return problems;
}

}  // namespace hambrel::plan
