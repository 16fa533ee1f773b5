// A lost state, filled anew from the text of its ledger.
#include <fmt/format.h>

#include <tuple>

#include "base/assert.h"
#include "state/state_impl.h"

namespace hambrel::state {

bool PackageStore::knows_files_of(std::int64_t package_row) const {
  return guarded(connection_->path, [&] {
    SQLite::Statement query(connection_->database, "SELECT 1 FROM lists WHERE package = ?");
    set_values(query, package_row);
    return query.executeStep();
  });
}

void State::restore(const std::vector<LedgerRecord>& history, const std::set<std::string>& unknown, LedgerEntry last) {
  guarded(connection_->path, [&] {
    SQLite::Transaction step(connection_->database);
    std::map<std::string, std::int64_t> rows;  // by name, version and architecture
    const auto key_of = [](const StatePackage& one) { return one.package.title() + " " + one.package.arch; };
    const auto row_of = [&](const StatePackage& one, const FileList& files) {
      const auto [found, added] = rows.emplace(key_of(one), 0);
      if (added) found->second = connection_->insert_package(one, files, "attic");
      return found->second;
    };
    std::int64_t before = 0;
    for (const LedgerRecord& record : history) {
      HAMBREL_ASSERT(number(record.entry.id) > before, "history is told in its order");
      before = number(record.entry.id);
      connection_->insert_entry_as_is(record.entry, changes_text(record.changes, record.entry.chain));
      std::vector<PackageChange> changes = record.changes;
      for (PackageChange& change : changes) {
        if (change.before) change.before_row = row_of(*change.before, {});
        if (change.after) change.after_row = row_of(*change.after, change.files);
      }
      connection_->insert_changes(record.entry.id, changes);
    }
    // what is installed, and of unknown files, goes; nothing of the attic can be found any more
    std::vector<PackageChange> lost;
    for (const auto& [key, row] : rows) {
      if (!unknown.contains(key)) continue;
      SQLite::Statement here(connection_->database,
                             "SELECT 1 FROM packages WHERE id = ? AND (state = 'installed' OR shelved)");
      set_values(here, row);
      if (here.executeStep()) {
        PackageChange change;
        change.before = package(row);
        change.before_row = row;
        change.name = change.before->package.name;
        lost.push_back(std::move(change));
      }
    }
    HAMBREL_ASSERT(number(last.id) > before, "restoring it is the last of it");
    last.moves = digest_of({}, {}, {}, {});
    std::ignore = connection_->insert_entry(last, lost);
    connection_->insert_changes(last.id, lost);
    SQLite::Statement forget(connection_->database, "DELETE FROM lists WHERE package = ?");
    for (const auto& [key, row] : rows) {
      if (!unknown.contains(key)) continue;
      run(forget, row);
    }
    for (const LedgerRecord& record : history)
      if (record.entry.result == "done") connection_->give_up({record.entry.id}, last.id);
    step.commit();
  });
}

}  // namespace hambrel::state
