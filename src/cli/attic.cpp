#include "cli/attic.h"

namespace hambrel::cli {

namespace {

constexpr ByteCount kMebibyte = 1 << 20;

std::optional<std::uint64_t> limit(std::uint64_t value) { return value == 0 ? std::nullopt : std::optional(value); }

}  // namespace

txn::Limits limits_of(const repo::Settings& settings) {
  txn::Limits limits;
  limits.transactions = limit(settings.attic_transactions);
  limits.days = limit(settings.attic_days);
  limits.bytes = limit(settings.attic_mebibytes * kMebibyte);
  return limits;
}

std::vector<txn::StandingAttic> standing_attics(Session& session, const state::State& state) {
  auto attics = txn::standing_attics(session.root(), state);
  if (!session.changes()) return attics;
  std::vector<state::Attic> counted;
  const auto known = state.attics();
  for (std::size_t i = 0; i < attics.size(); ++i)
    if (!known[i].bytes && attics[i].attic.bytes) counted.push_back(attics[i].attic);
  if (!counted.empty()) session.remember_sizes(counted);
  return attics;
}

std::string size_of(const txn::StandingAttic& one) {
  return one.attic.bytes ? size_text(*one.attic.bytes) : std::string("could not be counted");
}

}  // namespace hambrel::cli
