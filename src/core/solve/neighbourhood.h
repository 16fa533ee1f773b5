// Which packages are near to some names: what would have to come, go or change with them.
//
// From a chosen set and names that are to change, over requirements that would lose their provider or need a new one,
// and over conflicts. What is not near can stay as it is, as far as that goes: a model in which it does is a model;
// that there is none says nothing.
#pragma once

#include <utility>
#include <vector>

#include "model/universe.h"

namespace hambrel::solve {

class Neighbourhood {
 public:
  Neighbourhood(const Universe& universe, const std::vector<PackageId>& chosen);
  /// This name and what is near to it, from then on.
  void add(NameId name);
  bool has(NameId name) const { return near_[static_cast<std::size_t>(name)] != 0; }

 private:
  struct Use {
    PackageId user;
    RelationId relation;
  };
  void mark(NameId name);
  bool is_met_from_afar(RelationId relation) const;
  void look_at(PackageId id);
  void look_at_users(PackageId id);

  const Universe& universe_;
  std::vector<std::uint8_t> in_, near_;
  std::vector<std::uint32_t> use_starts_;  // by package: the first of its uses
  std::vector<Use> uses_;
  std::vector<std::pair<PackageId, PackageId>> against_;  // not chosen: what of the chosen stands against it
  std::vector<NameId> queue_;
};

}  // namespace hambrel::solve
