// Prepared transactions in the state. What was activated keeps its row, without the value: its stage, which can stand
// on a file system that was away, is then known to be the attic of that transaction.
#include "state/state_impl.h"

#include "base/assert.h"

namespace hambrel::state {

std::optional<Prepared> PreparedStore::prepared() const {
  return guarded(connection_->path, [&]() -> std::optional<Prepared> {
    SQLite::Statement query(connection_->database,
                            "SELECT id, time, after, kind, command, user, note, plan, staged, at_boot FROM prepared"
                            " WHERE activated IS NULL");
    if (!query.executeStep()) return std::nullopt;
    Prepared one;
    one.id = query.getColumn(0).getInt64();
    one.time = query.getColumn(1).getInt64();
    one.after = TxnId{query.getColumn(2).getInt64()};
    one.kind = query.getColumn(3).getString();
    one.command = query.getColumn(4).getString();
    one.user = query.getColumn(5).getString();
    one.note = query.getColumn(6).getString();
    one.record = query.getColumn(7).getString();
    one.staged = static_cast<ByteCount>(query.getColumn(8).getInt64());
    one.at_boot = query.getColumn(9).getInt() != 0;
    return one;
  });
}

std::string PreparedStore::prepared_value(std::int64_t id) const {
  return guarded(connection_->path, [&] {
    SQLite::Statement query(connection_->database, "SELECT value FROM prepared WHERE id = ?");
    set_values(query, id);
    if (!query.executeStep()) return std::string();
    const auto value = query.getColumn(0);
    return std::string(static_cast<const char*>(value.getBlob()), static_cast<std::size_t>(value.getBytes()));
  });
}

std::int64_t PreparedStore::next_prepared() const {
  return guarded(connection_->path, [&] {
    return connection_->database.execAndGet("SELECT 1 + coalesce(max(id), 0) FROM prepared").getInt64();
  });
}

std::optional<State::Fate> PreparedStore::fate_of_prepared(std::int64_t id) const {
  return guarded(connection_->path, [&]() -> std::optional<Fate> {
    SQLite::Statement query(connection_->database, "SELECT activated FROM prepared WHERE id = ?");
    set_values(query, id);
    if (!query.executeStep()) return std::nullopt;
    Fate fate;
    if (!query.getColumn(0).isNull()) fate.activated = TxnId{query.getColumn(0).getInt64()};
    return fate;
  });
}

void PreparedStore::prepare(const Prepared& prepared, std::vector<PackageChange>& changes,
                            const std::function<std::string()>& value_of) {
  guarded(connection_->path, [&] {
    SQLite::Transaction step(connection_->database);
    for (PackageChange& change : changes) {
      if (change.after && !change.after_row) {
        change.after_row = connection_->insert_package(*change.after, change.files, "attic");
        change.after->row = *change.after_row;
      }
      change.index = connection_->index_change(change);
    }
    HAMBREL_ASSERT(prepared.id > 0, "what is prepared has a number");
    HAMBREL_ASSERT(!this->prepared(), "one is prepared at a time");
    connection_->forget_lists();
    const std::string value = value_of();
    SQLite::Statement insert(connection_->database,
                             "INSERT INTO prepared VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, NULL)");
    set_values(insert, prepared.id, prepared.time, prepared.after, prepared.kind, prepared.command, prepared.user,
               prepared.note, prepared.record, prepared.staged, prepared.at_boot);
    insert.bindNoCopy(11, value.data(), static_cast<int>(value.size()));  // a blob
    insert.exec();
    HAMBREL_ASSERT(!value.empty(), "it can be read back");
    step.commit();
  });
}

void PreparedStore::drop_prepared(std::int64_t id) {
  guarded(connection_->path, [&] {
    SQLite::Transaction step(connection_->database);
    SQLite::Statement drop(connection_->database, "DELETE FROM prepared WHERE id = ? AND activated IS NULL");
    run(drop, id);
    connection_->database.exec(  // packages that were never installed
        "DELETE FROM packages WHERE state = 'attic' AND shelved = 0"
        " AND id NOT IN (SELECT before_package FROM changes WHERE before_package IS NOT NULL)"
        " AND id NOT IN (SELECT after_package FROM changes WHERE after_package IS NOT NULL)");
    connection_->forget_lists();
    step.commit();
  });
}

void PreparedStore::activate_at_boot(std::int64_t id, bool at_boot) {
  guarded(connection_->path, [&] {
    SQLite::Statement update(connection_->database, "UPDATE prepared SET at_boot = ? WHERE id = ?");
    run(update, at_boot, id);
  });
}

void Connection::mark_activated(std::int64_t prepared, TxnId by) {
  SQLite::Statement update(database, "UPDATE prepared SET activated = ?, value = x'' WHERE id = ?");
  const int marked = run(update, by, prepared);
  HAMBREL_ASSERT(marked == 1 && number(by) > 0, "what is activated was prepared");
}

}  // namespace hambrel::state
