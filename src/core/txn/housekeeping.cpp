#include "txn/housekeeping.h"

#include <fmt/format.h>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "txn/ledger_copy.h"
#include "txn/stage_names.h"
#include "txn/staging_homes.h"

namespace hambrel::txn {

using state::TxnId;

void Housekeeping::tidy_up() {
  try {
    settle_directories();
  } catch (...) {
    env_.observer.note(fmt::format("{}; `hambrel recover` finishes cleaning up", current_error().what()));
  }
  copy();
}

void Housekeeping::copy() {
  try {
    copy_ledger(env_.root, env_.state);
  } catch (...) {
    env_.observer.note(
        fmt::format("the ledger could not be copied: {}; the next run tries again", current_error().what()));
  }
}

void Housekeeping::settle_directories() {
  if (const auto journal = env_.state.journal()) return;  // in doubt: nothing is cleaned
  std::string from, attic;
  if (const auto last = env_.state.ledger(1); !last.empty() && last[0].result == "done") {
    attic = attic_of(last[0].id);
    from = last[0].undo_of ? attic_of(*last[0].undo_of) : stage_of(last[0].id);
  }
  for (const std::string& home : StagingHomes::all(env_.root)) {
    const std::string attics = os::join_path(home, kAttic), stages = os::join_path(home, kStage);
    if (!attic.empty() && env_.root.stat(os::join_path(home, from)) && !env_.root.stat(os::join_path(home, attic))) {
      to_attic(os::join_path(home, from), os::join_path(home, attic));
    }
    remove_given_up(attics);
    if (!env_.root.stat(stages)) continue;
    for (const std::string& name : env_.root.list(stages)) settle_stage(home, name);
    if (home == kHome || !env_.root.list(stages).empty()) continue;
    env_.root.remove_directory(stages);  // on other mounts nothing is left that holds nothing
    if (env_.root.list(home).empty()) env_.root.remove_directory(home);
  }
}

/// What can't be removed is tried again with each change: its owner may be filling it at this moment.
void Housekeeping::remove_given_up(const std::string& attics) {
  HAMBREL_ASSERT(attics.ends_with(kAttic), "only attics are given up");
  if (!env_.root.stat(attics)) return;
  for (const std::string& name : env_.root.list(attics)) {
    const auto id = parse_number(name);
    if (!id || !env_.state.given_up(TxnId{static_cast<std::int64_t>(*id)})) continue;
    remove_if_possible(os::join_path(attics, name));
  }
}

void Housekeeping::remove_if_possible(const std::string& path) {
  const auto above = os::name_of(os::parent_of(path));
  HAMBREL_ASSERT(above == kStage || above == kAttic, "nothing goes but stages and attics of ours");
  try {
    env_.root.remove_tree(path);
  } catch (const Error& problem) {
    env_.observer.note(
        fmt::format("{} could not be removed: {}; the next change tries again", env_.root.shown(path), problem.what()));
  }
}

/// A stage that stands: of what is prepared, of a transaction at whose end its file system was away, or of nothing.
void Housekeeping::settle_stage(const std::string& home, const std::string& name) {
  HAMBREL_ASSERT(!name.empty() && name.find('/') == std::string::npos, "a stage is a directory of its own");
  const std::string stage = os::join_path(os::join_path(home, kStage), name);
  std::optional<TxnId> done;
  if (name.starts_with(kPrepared)) {
    const auto id = parse_number(name.substr(kPrepared.size()));
    const auto fate = id ? env_.state.fate_of_prepared(static_cast<std::int64_t>(*id)) : std::nullopt;
    if (fate && !fate->activated) return;
    if (fate) done = fate->activated;
  } else if (const auto id = parse_number(name)) {
    const auto entry = env_.state.ledger_entry(TxnId{static_cast<std::int64_t>(*id)});
    if (entry && entry->result == "done") done = entry->id;
  }
  const std::string late = done ? os::join_path(home, attic_of(*done)) : "";
  if (!done || env_.root.stat(late)) return remove_if_possible(stage);
  to_attic(stage, late);
}

/// Durable when it returns, the directory of all attics included.
void Housekeeping::to_attic(const std::string& from, const std::string& attic) {
  HAMBREL_ASSERT(from != attic && os::parent_of(attic).ends_with(kAttic), "an attic lies among attics");
  HAMBREL_ASSERT(os::parent_of(os::parent_of(from)) == os::parent_of(os::parent_of(attic)), "in the same home");
  const std::string attics(os::parent_of(attic));
  if (!env_.root.stat(attics)) {
    env_.root.make_directories(attics);
    env_.root.sync_directory(os::parent_of(attics));
  }
  env_.root.rename_no_replace(from, attic);
  env_.root.sync_directory(attics);
}

}  // namespace hambrel::txn
