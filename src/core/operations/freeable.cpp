#include "operations/freeable.h"

#include <algorithm>

#include "solve/solver.h"

namespace hambrel::operations {

namespace {

using AreaKind = FreeableArea::Kind;

FreeableArea unneeded_area(Root& root) {
  const Universe& universe = root.universe();
  FreeableArea area{.kind = AreaKind::Unneeded};
  for (const PackageId id : solve::unneeded_of(universe, universe.installed())) {
    if (universe.held(id)) continue;
    ++area.count;
    area.bytes += universe.installed_size(id);
  }
  area.free = area.bytes;
  return area;
}

FreeableArea configs_area(Root& root) {
  const auto files = txn::configuration_files(root.files(), *root.state());
  const auto leftovers = leftovers_among(files);
  const IdlePristine idle = idle_pristine(root, files);
  FreeableArea area{.kind = AreaKind::Configs};
  area.leftovers = leftovers.size();
  area.idle = idle.size();
  area.count = leftovers.size() + idle.size();
  area.bytes = bytes_of(idle);
  for (const txn::ConfigFile& one : leftovers)
    if (const auto info = root.files().stat(one.path)) area.bytes += info->size;
  area.free = area.bytes;
  return area;
}

FreeableArea cache_area(Root& root) {
  FreeableArea area{.kind = AreaKind::Cache};
  for (const repo::CachedFile& one : repo::cached_files(root.files())) {
    ++area.count;
    area.bytes += one.size;
    area.rests += one.rest ? 1 : 0;
    area.unavailable += one.rest || is_offered(root, one) ? 0 : 1;
  }
  area.free = area.bytes;
  return area;
}

FreeableArea attic_area(Root& root) {
  const auto attics = standing_attics(root);
  FreeableArea area{.kind = AreaKind::Attic};
  const auto all = txn::over_limits({0, {}, {}}, attics, 0);
  for (const txn::StandingAttic& one : attics) {
    const ByteCount bytes = one.attic.bytes.value_or(0);
    ++area.count;
    area.bytes += bytes;
    if (std::find(all.begin(), all.end(), one.attic.id) != all.end()) area.free += bytes;
  }
  if (!attics.empty()) area.undo_from = attics.front().attic.id;
  return area;
}

FreeableArea checkpoints_area(Root& root) {
  FreeableArea area{.kind = AreaKind::Checkpoints};
  for (const state::Checkpoint& one : root.state()->checkpoints()) {
    ++area.count;
    for (const state::CheckpointFile& file : one.files) area.bytes += file.size;
  }
  area.free = area.bytes;
  return area;
}

}  // namespace

std::vector<FreeableArea> freeable(Root& root) {
  const state::State* const state = root.state();
  if (state == nullptr) return {};
  const state::State::ReadTransaction still(*state);
  std::vector<FreeableArea> areas{unneeded_area(root), configs_area(root), cache_area(root), attic_area(root),
                                  checkpoints_area(root)};
  if (const auto prepared = state->prepared())
    areas.push_back({.kind = AreaKind::Prepared, .count = 1, .bytes = prepared->staged, .free = prepared->staged});
  return areas;
}

ByteCount bytes_of(const IdlePristine& idle) {
  ByteCount bytes = 0;
  for (const auto& [place, size] : idle) bytes += size;
  return bytes;
}

}  // namespace hambrel::operations
