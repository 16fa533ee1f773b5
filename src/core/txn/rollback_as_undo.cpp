#include "txn/rollback_as_undo.h"

#include <fmt/format.h>

#include <memory>
#include <string_view>
#include <unordered_map>

#include "base/error.h"
#include "txn/undo.h"

namespace hambrel::txn {

using state::MoveKind;
using state::PackageChange;
using state::TxnId;

namespace {

/// The one transaction after `to` whose effect stands, if it is only one: of those that took each other back an even
/// number comes to nothing, an odd one to what the last of them did.
std::optional<TxnId> only_one_after(const state::State& state, TxnId to) {
  std::vector<TxnId> standing;
  for (std::int64_t id = number(to) + 1; id < number(state.next_id()); ++id) {
    const auto entry = state.ledger_entry(TxnId{id});
    if (!entry || entry->result != "done" || entry->kind == state::kGivingUp || state.undone_by(entry->id)) continue;
    std::size_t links = 1;
    for (auto before = entry->undo_of; before && number(*before) > number(to);) {
      ++links;
      const auto earlier = state.ledger_entry(*before);
      before = earlier ? earlier->undo_of : std::nullopt;
    }
    if (links % 2 == 1) standing.push_back(entry->id);
  }
  return standing.size() == 1 ? std::optional(standing[0]) : std::nullopt;
}

/// Do the attic's files that are to come back still have the sizes and times that the state knows?
bool is_whole(os::FileReader& root, const state::State& state, const Planned& planned) {
  std::unordered_map<std::string_view, const state::Move*> moves;  // of what comes out of it, by path
  for (const state::Move& move : planned.moves)
    if (move.kind == MoveKind::Place || move.kind == MoveKind::Exchange) moves.emplace(move.path, &move);
  os::Looker looker(root);
  const auto is_as_known = [&](const FileList& list, std::size_t i) {
    if (list.type(i) != EntryType::File || list.config(i)) return true;
    const std::string_view path = list.path(i);
    std::string_view top = path;  // itself, or the directory that it comes with
    while (!top.empty() && !moves.contains(top)) top = os::parent_of(top);
    if (top.empty()) return true;  // it stays
    const state::Move& move = *moves.at(top);
    const auto info =
        looker.stat(fmt::format("{}/{}/{}{}", move.home, planned.attic, move.place, path.substr(top.size())));
    return info && info->type == os::FileType::Regular && info->size == list.content_size(i) &&
           info->mtime_seconds == list.facts(i).mtime;
  };
  for (const PackageChange& change : planned.changes) {
    if (!change.after_row || change.before_row == change.after_row) continue;
    const auto list = state.files_of(*change.after_row);
    for (std::size_t i = 0; i < list->size(); ++i)
      if (!is_as_known(*list, i)) return false;
  }
  return true;
}

/// Was configuration edited of a package that is here and comes in another version, or goes?
bool is_edited(os::FileReader& root, const state::State& state, const Planned& planned) {
  for (const PackageChange& change : planned.changes) {
    if (!change.before_row) continue;
    for (const FileEntry& file : state.configuration_of(*change.before_row))
      if (const auto here = root.stat(file.path); here && here->type == os::FileType::Regular)
        if (root.digest(file.path) != file.digest) return true;
  }
  return false;
}

}  // namespace

std::optional<Planned> as_undo(os::FileSystem& root, const state::State& state, TxnId to) {
  const auto one = state.ledger_entry(to) ? only_one_after(state, to) : std::nullopt;
  if (!one) return std::nullopt;
  try {
    Planned planned = plan_undo(root, state, *one);
    // something was changed since, on the disk or in the attic: looked at one by one
    if (!planned.plan.notices.empty() || is_edited(root, state, planned) || !is_whole(root, state, planned))
      return std::nullopt;
    planned.plan.kind = "rollback";
    for (plan::Step& step : planned.plan.steps) step.why = {plan::WhyKind::RolledBack, std::to_string(number(to)), ""};
    return planned;
  } catch (const Error& problem) {
    if (problem.code() != ErrorCode::Refused) throw;
    return std::nullopt;  // its attic is gone, or something else stands in the way that a rollback goes past
  }
}

}  // namespace hambrel::txn
