#include "operations/going_back.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "operations/supply.h"
#include "os/host.h"
#include "txn/rollback.h"
#include "txn/undo.h"

namespace hambrel::operations {

namespace {

std::optional<state::Checkpoint> find_checkpoint(Root& root, const std::string& name) {
  for (state::Checkpoint& one : require_state(root).checkpoints())
    if (one.name == name) return std::move(one);
  return std::nullopt;
}

[[noreturn]] void refuse(state::TxnId id, const std::string& what, const std::string& hint) {
  throw Error(ErrorCode::Refused, what, fmt::format("transaction {}", number(id)), hint);
}

}  // namespace

std::unique_ptr<Proposal> propose_undo(Root& root, state::TxnId id, const PlannedTerms& terms) {
  const state::State& state = require_state(root);
  try {
    return propose(root, txn::plan_undo(root.files(), state, id), terms);
  } catch (const txn::AtticAltered& problem) {
    if (id != state.last_done()) throw;
    root.observer().note(fmt::format("{}; it comes from the cache or a repository", problem.problem()));
  }
  const auto files = std::make_shared<VersionFiles>(root);
  return propose(
      root, txn::plan_rollback(root.files(), state, state::TxnId{number(id) - 1}, files->file_of(), os::processors()),
      terms, files);
}

std::unique_ptr<Proposal> propose_redo(Root& root, state::TxnId id, const PlannedTerms& terms) {
  const state::State& state = require_state(root);
  if (!state.ledger_entry(id))
    throw Error(ErrorCode::NotFound, fmt::format("the ledger has no transaction {}", number(id)), {},
                "`hambrel ledger` lists them");
  const auto by = state.undone_by(id);
  if (!by) refuse(id, "it was not undone, so there is nothing to redo", "`hambrel ledger` shows what was undone");
  if (const auto again = state.undone_by(*by))
    refuse(id, fmt::format("it was already done again by transaction {}", number(*again)),
           fmt::format("to undo it: hambrel undo {}", number(*again)));
  return propose_undo(root, *by, terms);
}

Outcome take_back_failed(ChangingRoot& root, const Outcome& failed) {
  std::vector<std::string> names;
  for (const ServiceDone& one : failed.services)
    if (!one.good) names.push_back(one.name);
  root.renew();
  PlannedTerms terms;
  terms.acting.running.insert(failed.ran.begin(), failed.ran.end());
  for (const state::PackageChange& change : root.state()->changes_of(*failed.transaction))
    terms.allow_essential.insert(change.name);
  Terms how;
  how.reason = fmt::format("{} did not come up", join(names, ", "));
  return propose_undo(root, *failed.transaction, terms)->perform(root, how);
}

bool is_checkpoint(Root& root, const std::string& name) { return find_checkpoint(root, name).has_value(); }

std::unique_ptr<Proposal> propose(Root& root, const RollbackRequest& request) {
  const state::State& state = require_state(root);
  const auto files = std::make_shared<VersionFiles>(root);
  if (const auto checkpoint = find_checkpoint(root, request.to))
    return propose(root, txn::plan_rollback(root.files(), state, *checkpoint, files->file_of(), os::processors()),
                   request.terms, files);
  const auto to = parse_number(request.to);
  if (!to)
    throw Error(ErrorCode::NotFound, fmt::format("there is no checkpoint {}", printable(request.to)), {},
                "`hambrel checkpoint list` shows them; a transaction is named by its number");
  return propose(root,
                 txn::plan_rollback(root.files(), state,
                                    state::TxnId{static_cast<std::int64_t>(std::min<std::uint64_t>(*to, INT64_MAX))},
                                    files->file_of(), os::processors()),
                 request.terms, files, "configuration edited since then stays as it is");
}

}  // namespace hambrel::operations
