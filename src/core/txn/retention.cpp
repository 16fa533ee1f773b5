#include "txn/retention.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "txn/shelve.h"
#include "txn/transaction.h"

namespace hambrel::txn {

using state::TxnId;

namespace {

ByteCount size_of(os::FileReader& root, const std::string& top) {
  ByteCount size = 0;
  std::vector<std::string> waiting{top};
  while (!waiting.empty()) {
    const std::string directory = std::move(waiting.back());
    waiting.pop_back();
    const auto names = root.list(directory);
    const auto reader = root.look_into(directory);
    for (const std::string& name : names) {
      const auto info = reader ? reader->stat(name) : root.stat(os::join_path(directory, name));
      if (info && info->type == os::FileType::Regular) size += info->size;
      if (info && info->type == os::FileType::Directory) waiting.push_back(os::join_path(directory, name));
    }
  }
  return size;
}

/// Nothing where this user may not look.
std::optional<ByteCount> counted(os::FileReader& root, const std::vector<std::string>& homes, TxnId id) {
  try {
    ByteCount bytes = 0;
    for (const std::string& home : homes)
      if (const std::string at = fmt::format("{}/{}/{}", home, kAttic, number(id)); root.stat(at))
        bytes += size_of(root, at);
    return bytes;
  } catch (const Error& problem) {
    if (problem.code() != ErrorCode::Io) throw;
    return std::nullopt;
  }
}

/// `checkpoints`: oldest first.
std::string needed_by(const std::vector<state::Checkpoint>& checkpoints, TxnId id,
                      const std::map<TxnId, std::string>& named) {
  if (const auto found = named.find(id); found != named.end()) return found->second;
  for (const state::Checkpoint& one : checkpoints)
    if (number(id) > number(one.after)) return "checkpoint " + one.name;
  return {};
}

}  // namespace

namespace {

constexpr std::int64_t kDay = 24 * 60 * 60;
constexpr std::int64_t kLeap = 180 * kDay;  // between two transactions: longer is taken for a wrong clock
constexpr std::int64_t kSlack = 60;         // by which clocks are set back every day

}  // namespace

std::string doubt_of_clock(const state::LedgerStore& state, std::int64_t now) {
  const auto last = state.ledger(1);
  if (last.empty()) return {};
  const std::int64_t then = last[0].ended;
  if (now + kSlack < then)
    return fmt::format("the clock says {}, but the last transaction ended at {}", utc_text(now), utc_text(then));
  if (now - then > kLeap)
    return fmt::format("the clock says that the last transaction was {} days ago", (now - then) / kDay);
  return {};
}

std::int64_t age_by_ledger(const std::vector<std::pair<TxnId, std::int64_t>>& ends, TxnId id, std::int64_t now) {
  std::int64_t age = 0, later = now;
  for (auto one = ends.rbegin(); one != ends.rend() && one->first >= id; ++one) {
    const std::int64_t step = later - one->second;
    if (step > 0 && step <= kLeap) age += step;
    later = one->second;
  }
  return age;
}

std::vector<StandingAttic> standing_attics(os::FileReader& root, const state::State& state, std::int64_t now) {
  const state::State::ReadTransaction still(state);
  const auto ends = state.ends();
  const auto checkpoints = state.checkpoints();
  std::map<TxnId, std::string> named;  // transactions whose files something needs
  for (const auto& [id, name] : attics_of_shelf(root, state)) named[id] = name + ", which is shelved";
  if (const auto prepared = state.prepared()) {
    const std::string directory = decode(state.prepared_value(prepared->id), state).journal.directory;
    if (directory.starts_with(std::string(kAttic) + "/"))
      if (const auto id = parse_number(directory.substr(std::string(kAttic).size() + 1)))
        named[TxnId{static_cast<std::int64_t>(*id)}] = "what is prepared";
  }
  std::vector<StandingAttic> result;
  const auto homes = StagingHomes::all(root);
  for (const state::Attic& attic : state.attics()) {
    StandingAttic one{attic, needed_by(checkpoints, attic.id, named), age_by_ledger(ends, attic.id, now)};
    if (!one.attic.bytes) one.attic.bytes = counted(root, homes, attic.id);
    result.push_back(std::move(one));
  }
  return result;
}

std::vector<TxnId> over_limits(const Limits& limits, const std::vector<StandingAttic>& attics, std::size_t coming) {
  std::size_t count = attics.size() + coming;
  ByteCount bytes = 0;
  for (const StandingAttic& one : attics) bytes += one.attic.bytes.value_or(0);
  std::vector<TxnId> result;
  for (std::size_t i = 0; i < attics.size(); ++i) {
    const StandingAttic& one = attics[i];
    const bool last = i + 1 == attics.size() && coming == 0;
    const bool too_many = limits.transactions && count > *limits.transactions;
    const bool too_old = limits.days && one.age / kDay >= static_cast<std::int64_t>(*limits.days);
    const bool too_large = limits.bytes && bytes > *limits.bytes;
    if (last || !one.needed_by.empty() || !(too_many || too_old || too_large)) continue;
    result.push_back(one.attic.id);
    --count;
    bytes -= std::min(bytes, one.attic.bytes.value_or(0));
  }
  return result;
}

plan::Notice notice_of(const std::vector<TxnId>& given_up) {
  HAMBREL_ASSERT(!given_up.empty(), "something is given up");
  std::vector<std::string> parts;  // "1 to 3", "5"
  for (std::size_t i = 0; i < given_up.size();) {
    std::size_t last = i;
    while (last + 1 < given_up.size() && number(given_up[last + 1]) == number(given_up[last]) + 1) ++last;
    parts.push_back(last == i ? std::to_string(number(given_up[i]))
                              : fmt::format("{} to {}", number(given_up[i]), number(given_up[last])));
    i = last + 1;
  }
  return {plan::Notice::Kind::GivenUp, join(parts, ", "), std::to_string(number(given_up.back()))};
}

}  // namespace hambrel::txn
