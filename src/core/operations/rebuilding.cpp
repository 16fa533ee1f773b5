#include "operations/rebuilding.h"

#include <algorithm>

#include "base/text.h"
#include "operations/proposal.h"
#include "operations/supply.h"
#include "os/host.h"
#include "txn/ledger_copy.h"

namespace hambrel::operations {

namespace {

constexpr std::uint64_t kMostExported = 1ULL << 30;  // of an exported ledger

txn::History history_of(Root& root, const std::string& file) {
  txn::History history;
  if (!file.empty()) {
    const auto host = os::open_file_system("/");
    const std::string path = os::host_path(file);
    if (!host->stat_followed(path))
      throw Error(ErrorCode::NotFound, "there is no such file", file, "--ledger takes what `ledger export` wrote");
    history = txn::read_export(host->read_all(path, kMostExported), file);
  } else {
    history = txn::read_copy(root.files());
  }
  if (history.records.empty())
    throw Error(ErrorCode::Refused,
                history.broken.empty() ? "there is no copy of the ledger to recreate the state from" : history.broken,
                history.broken.empty() ? root.files().shown(txn::kLedgerCopy) : "",
                "give an export of it: --ledger FILE, as `hambrel ledger export` wrote it");
  return history;
}

/// Refused where the state is sound: then there is nothing to make anew.
void require_lost(Root& root) {
  if (!root.files().stat(kStateFile)) return;
  std::vector<std::string> damage;
  try {
    const state::State state(root.files(), kStateFile, state::Access::Look);
    damage = state.damage();
  } catch (const Error& problem) {
    if (problem.code() == ErrorCode::Locked || problem.code() == ErrorCode::Invalid) throw;
    return;
  }
  if (damage.empty())
    throw Error(ErrorCode::Refused, "the state of this root is fine: there is nothing to recreate",
                root.files().shown(kStateFile), "`hambrel repair` restores files");
}

txn::FileOf file_of(Root& root, VersionFiles& files, const std::vector<Spec>& given) {
  return [&root, &files, given](const state::StatePackage& one) -> txn::PackageFile {
    for (const Spec& spec : given) {
      auto* const reader = root.file_reader(root.file_package(spec.text));
      if (reader != nullptr && txn::key_of(reader->manifest()) == txn::key_of(one.package)) return {reader, true};
    }
    return files.file_of()(one);
  };
}

}  // namespace

RebuildProposal propose(Root& root, const RebuildRequest& request) {
  require_lost(root);
  txn::History history = history_of(root, request.ledger_file);
  RebuildProposal proposal;
  proposal.broken = history.broken;
  root.add_files(request.files);
  VersionFiles files(root);
  proposal.planned = txn::plan_rebuilding(std::move(history), file_of(root, files, request.files));
  return proposal;
}

state::TxnId perform(ChangingRoot& root, const RebuildProposal& proposal, const std::string& reason) {
  plan::Plan plan;
  plan.kind = state::kRebuilding;
  const txn::Account account = account_of(root, plan, reason);
  return txn::rebuild(root.files(), proposal.planned, account, os::now());
}

}  // namespace hambrel::operations
