#include "operations/limits.h"

#include "os/host.h"

namespace hambrel::operations {

namespace {

constexpr ByteCount kMebibyte = 1 << 20;

std::optional<std::uint64_t> limit(std::uint64_t value) { return value == 0 ? std::nullopt : std::optional(value); }

}  // namespace

void drop_age_in_doubt(Root& root, txn::Limits& limits) {
  const std::string doubt = root.clock_doubt();
  if (!limits.days || doubt.empty()) return;
  limits.days.reset();
  root.observer().note(doubt + ": nothing is dropped for its age in this run");
}

txn::Limits attic_limits(Root& root) {
  const settings::Settings& settings = root.settings();
  txn::Limits limits;
  limits.transactions = limit(settings.attic_transactions);
  limits.days = limit(settings.attic_days);
  limits.bytes = limit(settings.attic_mebibytes * kMebibyte);
  drop_age_in_doubt(root, limits);
  return limits;
}

std::vector<txn::StandingAttic> standing_attics(Root& root) {
  const state::State* const state = root.state();
  if (state == nullptr) return {};
  auto attics = txn::standing_attics(root.files(), *state, os::now());
  auto* const changing = dynamic_cast<ChangingRoot*>(&root);
  if (changing == nullptr) return attics;
  std::vector<state::Attic> counted;
  const auto known = state->attics();
  for (std::size_t i = 0; i < attics.size(); ++i)
    if (!known[i].bytes && attics[i].attic.bytes) counted.push_back(attics[i].attic);
  if (!counted.empty()) changing->state_to_change().remember_sizes(counted);
  return attics;
}

repo::CacheLimits cache_limits(Root& root) {
  repo::CacheLimits limits = repo::cache_limits_of(root.settings());
  if (!limits.days) return limits;
  const std::string doubt = root.clock_doubt();
  if (doubt.empty()) return limits;
  limits.days.reset();
  root.observer().note(doubt + ": no package file is dropped for its age in this run");
  return limits;
}

bool is_offered(Root& root, const repo::CachedFile& file) {
  const Universe& universe = root.universe();
  for (const PackageId id : universe.versions_of(file.name)) {
    if (universe.version(id) != file.version || universe.architecture(id) != file.arch) continue;
    for (std::size_t i = 0; i < universe.offer_count(id); ++i)
      if (universe.offer(id, i).enabled) return true;
  }
  return false;
}

}  // namespace hambrel::operations
