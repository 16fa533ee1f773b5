#include "txn/rebuild.h"

#include <fmt/format.h>

#include <map>

#include "base/assert.h"
#include "base/error.h"
#include "txn/checkpoint.h"
#include "txn/ledger_copy.h"

namespace hambrel::txn {

using state::PackageChange;
using state::StatePackage;
using state::TxnId;

namespace {

constexpr const char* kState = "state.sqlite";

struct Known {
  Package package;
  FileList files;
  std::string from;
};

/// The state's own files are small in number and lie beside each other.
std::string of_state(const std::string& suffix) { return fmt::format("{}/{}{}", kHome, kState, suffix); }

}  // namespace

std::string key_of(const Package& package) { return package.title() + " " + package.arch; }

Rebuilding plan_rebuilding(History history, const FileOf& file_of) {
  Rebuilding planned;
  std::map<std::string, std::optional<Known>> versions;
  const auto ask = [&](const StatePackage& one) -> const std::optional<Known>& {
    const auto [found, added] = versions.emplace(key_of(one.package), std::nullopt);
    if (!added) return found->second;
    const PackageFile file = file_of(one);
    if (file.reader != nullptr)
      found->second =
          Known{file.reader->manifest(), file.reader->contents().files(), file.at_hand ? "cache" : one.origin};
    else
      planned.unknown.insert(found->first);
    return found->second;
  };
  std::map<std::string, StatePackage> here;
  for (state::LedgerRecord& record : history.records) {
    for (PackageChange& change : record.changes) {
      for (auto* side : {&change.before, &change.after})
        if (*side)
          if (const auto& known = ask(**side)) (*side)->package = known->package;
      if (change.after)
        if (const auto& known = ask(*change.after)) change.files = known->files;
    }
    if (record.entry.result != "done") continue;
    for (const PackageChange& change : record.changes)
      if (change.before) here.erase(key_of(change.before->package));
    for (const PackageChange& change : record.changes)
      if (change.after) here[key_of(change.after->package)] = *change.after;
  }
  for (const auto& [key, one] : here) planned.installed.push_back({one, ask(one) ? ask(one)->from : ""});
  planned.versions = versions.size();
  HAMBREL_ASSERT(planned.unknown.size() <= versions.size(), "what is unknown was asked for");
  planned.known = versions.size() - planned.unknown.size();
  planned.history = std::move(history.records);
  return planned;
}

TxnId rebuild(os::FileSystem& root, const Rebuilding& planned, const Account& account, std::int64_t now) {
  const std::string fresh = of_state(".new");
  for (const char* const suffix : {".new", ".new-journal"})
    if (root.stat(of_state(suffix))) root.remove_file(of_state(suffix));
  const TxnId id = planned.history.empty() ? TxnId{1} : TxnId{number(planned.history.back().entry.id) + 1};
  HAMBREL_ASSERT(number(id) > 0, "recreating it is the next transaction");
  const state::LedgerEntry entry = entry_of(id, now, now, account);
  const std::string aside = fmt::format("-before-{}", number(entry.id));
  {
    state::State state(root, fresh, state::Access::Change);
    state.restore(planned.history, planned.unknown, entry);
    if (root.stat(kLedgerCopy) && !root.stat(kLedgerCopy + aside))  // what is believed of it is in the new state
      root.rename_no_replace(kLedgerCopy, kLedgerCopy + aside);
    copy_ledger(root, state);
  }
  root.sync_all(kHome);
  for (const std::string& home : StagingHomes::all(root))
    if (const std::string attic = os::join_path(home, kAttic); root.stat(attic) && !root.stat(attic + aside))
      root.rename_no_replace(attic, attic + aside);
  if (root.stat(kCheckpoints) && !root.stat(kCheckpoints + aside))
    root.rename_no_replace(kCheckpoints, kCheckpoints + aside);
  // the old state's own journal first: it must not be taken for one of the new state
  if (root.stat(of_state("-journal"))) root.rename(of_state("-journal"), of_state(aside + "-journal"));
  if (root.stat(of_state(""))) root.rename(of_state(""), of_state(aside));
  root.rename_no_replace(fresh, of_state(""));
  root.sync_directory(kHome);
  return entry.id;
}

}  // namespace hambrel::txn
