#include "operations/ledger.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "operations/limits.h"
#include "plan/plan_record.h"
#include "txn/output_log.h"

namespace hambrel::operations {

namespace {

bool is_meant(const LedgerFilter& filter, const PackageChange& change) {
  return filter.package.empty() || glob_match(filter.package, change.name);
}

bool passes(const LedgerFilter& filter, const LedgerEntry& entry) {
  if (!filter.kind.empty() && entry.kind != filter.kind) return false;
  if (!filter.user.empty() && entry.user != filter.user && !entry.user.starts_with(filter.user + " (")) return false;
  return entry.started >= filter.since && entry.started < filter.until;
}

void require_kind(const std::string& kind) {
  const auto& kinds = ledger_kinds();
  if (kind.empty() || std::find(kinds.begin(), kinds.end(), kind) != kinds.end()) return;
  const std::string near = did_you_mean(kind, kinds);
  throw Error(ErrorCode::Usage, fmt::format("--kind {}: no such kind", printable(kind)), {},
              near.empty() ? "kinds: " + join(kinds, " ") : near);
}

/// An undo of an undo is a redo, an undo of that an undo again, and so on: of the transaction at the beginning.
void resolve_undo(const state::State& state, LedgerLine& line) {
  if (!line.entry.undo_of) return;
  TxnId first = *line.entry.undo_of;
  std::size_t links = 1;
  for (auto before = state.ledger_entry(first); before && before->undo_of; before = state.ledger_entry(first)) {
    first = *before->undo_of;
    ++links;
  }
  (links % 2 == 1 ? line.undoes : line.redoes) = first;
}

}  // namespace

const std::vector<std::string>& ledger_kinds() {
  static const std::vector<std::string> kinds{
      "install",  "remove", "upgrade",  "downgrade", "change",  "hold",  "release", "want", "unwant", "shelve",
      "unshelve", "undo",   "rollback", "repair",    "rebuild", "purge", "settle",  "tidy", "pick"};
  return kinds;
}

std::vector<LedgerLine> ledger(Root& root, const LedgerFilter& filter, std::uint64_t most) {
  require_kind(filter.kind);
  std::vector<LedgerLine> lines;
  const state::State* const state = root.state();
  if (state == nullptr) return lines;
  const state::State::ReadTransaction still(*state);
  constexpr std::uint64_t kAll = SIZE_MAX >> 1U;
  for (LedgerEntry& entry : state->ledger(filter == LedgerFilter{} ? std::min(most, kAll) : kAll)) {
    if (lines.size() == most) break;
    if (!passes(filter, entry)) continue;
    LedgerLine line;
    line.changes = state->changes_of(entry.id);
    const bool about_it = std::any_of(line.changes.begin(), line.changes.end(),
                                      [&](const PackageChange& one) { return is_meant(filter, one); });
    if (!filter.package.empty() && !about_it) continue;
    if (line.changes.empty()) line.plan = plan::plan_of(entry.record);
    if (entry.result == "done") {
      line.undone_by = state->undone_by(entry.id);
      if (line.undone_by && state->undone_by(*line.undone_by)) line.undone_by.reset();
      line.for_good = !line.undone_by && state->given_up(entry.id);
    }
    line.entry = std::move(entry);
    resolve_undo(*state, line);
    lines.push_back(std::move(line));
  }
  return lines;
}

std::vector<LedgerEntry> ledger_entries(Root& root, std::uint64_t most) {
  return root.state() == nullptr ? std::vector<LedgerEntry>() : root.state()->ledger(most);
}

std::vector<ChangedPackage> changed_packages(Root& root, const LedgerFilter& filter, std::uint64_t most) {
  require_kind(filter.kind);
  std::vector<ChangedPackage> packages;
  const state::State* const state = root.state();
  if (state == nullptr) return packages;
  const state::State::ReadTransaction still(*state);
  for (const LedgerEntry& entry : state->ledger(SIZE_MAX >> 1U)) {
    if (entry.result != "done" || !passes(filter, entry)) continue;
    for (PackageChange& change : state->changes_of(entry.id)) {
      const bool same = change.before_row == change.after_row && change.before->shelved == change.after->shelved;
      if (same || !is_meant(filter, change)) continue;
      if (packages.size() == most) return packages;
      packages.push_back({entry, std::move(change)});
    }
  }
  return packages;
}

std::optional<plan::Voucher> voucher_of(Root& root, PackageId installed) {
  const Candidate& one = root.universe()[installed];
  const state::State* const state = root.state();
  if (!one.installed || state == nullptr) return std::nullopt;
  for (const LedgerEntry& entry : state->ledger(SIZE_MAX >> 1U)) {
    if (entry.result != "done" || entry.started > one.installed->time || entry.ended < one.installed->time) continue;
    for (const plan::Step& step : plan::plan_of(entry.record).steps)
      if (step.name == one.package.name && step.arch == one.package.arch && step.after == one.package.version.text() &&
          step.voucher)
        return step.voucher;
  }
  return std::nullopt;
}

LedgerDetail ledger_detail(Root& root, TxnId id) {
  const state::State* const state = root.state();
  auto entry = state == nullptr ? std::nullopt : state->ledger_entry(id);
  if (!entry)
    throw Error(ErrorCode::NotFound, fmt::format("the ledger has no transaction {}", number(id)), {},
                "`hambrel ledger` lists them");
  LedgerDetail detail;
  detail.plan = plan::plan_of(entry->record);
  detail.entry = std::move(*entry);
  detail.changes = state->changes_of(id);
  detail.runs = state->runs_of(id);
  detail.log = txn::log_of(root.files(), id);
  detail.undone_by = state->undone_by(id);
  detail.given_up_by = state->given_up(id);
  if (!detail.given_up_by)
    for (StandingAttic& one : standing_attics(root))
      if (one.attic.id == id) detail.attic = std::move(one);
  return detail;
}

void export_ledger(Root& root, const std::function<void(std::string_view)>& line) {
  const state::State* const state = root.state();
  if (state == nullptr) return;
  const auto entries = state->ledger(SIZE_MAX >> 1U);
  for (auto entry = entries.rbegin(); entry != entries.rend(); ++entry)
    line(state::ledger_text(*entry, state->changes_told(entry->id)));
}

bool is_ledger_empty(Root& root) { return root.state() == nullptr || root.state()->ledger(1).empty(); }

TxnId transaction_named(Root& root, const std::string& text, bool done) {
  if (text == "last") {
    for (const LedgerEntry& one : is_ledger_empty(root) ? std::vector<LedgerEntry>() : ledger_entries(root, UINT64_MAX))
      if (!done || one.result == "done") return one.id;
    throw Error(ErrorCode::NotFound, "nothing was changed here yet", {}, "`hambrel ledger` shows what was");
  }
  const auto value = parse_number(text);
  if (!value || *value == 0 || *value > INT64_MAX)
    throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not the number of a transaction", printable(text)), {},
                "`hambrel ledger` shows the numbers; the newest one is also called last");
  return TxnId{static_cast<std::int64_t>(*value)};
}

}  // namespace hambrel::operations
