// Relations of packages, as the layers hold them.
#include "model/universe.h"

namespace hambrel {

const image::RelationRecord& Universe::record(RelationId id) const {
  const auto number = static_cast<std::size_t>(id);
  return number < base_->relation_count() ? base_->relations[number]
                                          : overlay_->relations[number - base_->relation_count()];
}

std::span<const RelationId> Universe::relations(PackageId id, RelationList list) const {
  static_assert(sizeof(RelationId) == sizeof(std::uint32_t));
  const image::PackageRecord& one = record(id);
  std::size_t at = one.uses;
  for (std::size_t before = 0; before < static_cast<std::size_t>(list); ++before) at += one.counts[before];
  const auto numbers = layer(id).uses.slice(at, one.counts[static_cast<std::size_t>(list)]);
  return {reinterpret_cast<const RelationId*>(numbers.data()), numbers.size()};
}

std::size_t Universe::constraint_count(RelationId relation) const { return record(relation).constraint_count; }

Universe::ConstraintView Universe::constraint(RelationId relation, std::size_t i) const {
  const Layer& home = static_cast<std::size_t>(relation) < base_->relation_count() ? *base_ : *overlay_;
  const image::ConstraintRecord& one = home.constraints[record(relation).constraints + i];
  if (one.op > static_cast<std::uint32_t>(Operator::GreaterEqual)) throw DamagedImage();
  return {static_cast<NameId>(one.name), static_cast<Operator>(one.op), home.text(one.version)};
}

std::string Universe::text(RelationId relation) const {
  std::string result;
  for (std::size_t i = 0; i < constraint_count(relation); ++i) {
    const ConstraintView one = constraint(relation, i);
    if (i > 0) result += " | ";
    result += name(one.name);
    if (one.op != Operator::Any) result.append(" ").append(text_of(one.op)).append(" ").append(one.version);
  }
  return result;
}

}  // namespace hambrel
