// Relations of packages, as the layers hold them.
#include <algorithm>

#include "model/universe.h"

namespace hambrel {

std::size_t Universe::constraint_count(RelationId relation) const {
  const std::size_t count = record(relation).constraint_count;
  if (count == 0) throw DamagedImage();  // no relation says nothing
  return count;
}

Universe::ConstraintView Universe::constraint(RelationId relation, std::size_t i) const {
  const Layer& home = static_cast<std::size_t>(relation) < base_->relation_count() ? *base_ : *overlay_;
  const image::ConstraintRecord& one = home.constraints[record(relation).constraints + i];
  if (one.op > static_cast<std::uint32_t>(Operator::GreaterEqual)) throw DamagedImage();
  return {static_cast<NameId>(require(one.name, names_)), static_cast<Operator>(one.op), home.text(one.version)};
}

bool Universe::same_text(RelationId a, RelationId b) const {
  if (a == b) return true;
  const std::size_t count = constraint_count(a);
  if (count != constraint_count(b)) return false;
  for (std::size_t i = 0; i < count; ++i) {
    const ConstraintView one = constraint(a, i), other = constraint(b, i);
    if (one.name != other.name || one.op != other.op || one.version != other.version) return false;
  }
  return true;
}

std::string Universe::text(RelationId relation) const {
  constexpr std::size_t kUsual = 48;  // bytes
  std::string result;
  result.reserve(kUsual);
  for (std::size_t i = 0; i < constraint_count(relation); ++i) {
    const ConstraintView one = constraint(relation, i);
    if (i > 0) result += " | ";
    result += name(one.name);
    if (one.op != Operator::Any) result.append(" ").append(text_of(one.op)).append(" ").append(one.version);
  }
  return result;
}

/// Does what a package of the overlay provides answer to a part of a relation of the base?
bool Universe::answers_in_overlay(const image::RelationRecord& relation, const image::ProviderRecord& provider,
                                  const image::ConstraintRecord& constraint) const {
  if (relation.by_name_only != 0 && record(static_cast<PackageId>(provider.package)).name != constraint.name)
    return false;
  const auto op = static_cast<Operator>(constraint.op);
  if (op == Operator::Any) return true;
  const std::string_view has = overlay_->text(provider.version);
  return !has.empty() && version_allowed(op, base_->text(constraint.version), has);
}

Ids Universe::find_matching(RelationId relation) const {
  const image::RelationRecord& one = record(relation);
  const auto number = static_cast<std::size_t>(relation);
  const bool of_base = number < base_->relation_count();
  const auto candidates = (of_base ? base_ : overlay_)->candidates.slice(one.candidates, one.candidate_count);
  const Ids known(reinterpret_cast<const PackageId*>(candidates.data()), candidates.size());
  std::vector<PackageId> more;  // candidates of the overlay's relations were looked for in both layers
  for (std::size_t i = 0; of_base && i < one.constraint_count; ++i) {
    const image::ConstraintRecord& constraint = base_->constraints[one.constraints + i];
    for (const image::ProviderRecord& provider : overlay_providers(constraint.name)) {
      const auto id = static_cast<PackageId>(provider.package);
      if (std::find(more.begin(), more.end(), id) == more.end() && answers_in_overlay(one, provider, constraint) &&
          visible(id))
        more.push_back(id);
    }
  }
  const bool all_visible = std::all_of(known.begin(), known.end(), [&](PackageId id) { return visible(id); });
  if (of_base && more.empty() && all_visible) return matches_.refer(number, known);  // as they lie in the image
  std::vector<PackageId> ids;
  for (const PackageId id : known)
    if (visible(id)) ids.push_back(id);
  ids.insert(ids.end(), more.begin(), more.end());
  if (!of_base || !more.empty()) sort(ids);
  return matches_.keep(number, ids);
}

}  // namespace hambrel
