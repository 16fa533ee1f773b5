// Attics in the state: which stand, how large they are, which were given up.
#include "state/state_impl.h"

#include "base/assert.h"

namespace hambrel::state {

namespace {

/// Some thousands of them can be summed up.
ByteCount size_in(std::int64_t stored, const std::string& where) {
  constexpr std::int64_t kMost = std::int64_t{1} << 50;  // bytes: no disk holds more
  if (stored < 0 || stored > kMost)
    throw Error(ErrorCode::Invalid, fmt::format("it says that an attic takes {} bytes", stored), where);
  return static_cast<ByteCount>(stored);
}

}  // namespace

std::vector<Attic> AtticStore::attics() const {
  return guarded(connection_->path, [&] {
    std::vector<Attic> result;
    // each transaction with moves by one step through their index: of thousands in the ledger few have any
    SQLite::Statement query(
        connection_->database,
        "WITH RECURSIVE moved(txn) AS (SELECT min(txn) FROM moves UNION ALL"
        " SELECT (SELECT min(txn) FROM moves WHERE txn > moved.txn) FROM moved WHERE moved.txn IS NOT NULL)"
        " SELECT l.id, l.ended, a.bytes FROM moved JOIN ledger l ON l.id = moved.txn LEFT JOIN attics a ON a.txn = l.id"
        " WHERE l.result = 'done' AND a.dropped IS NULL"
        " AND NOT EXISTS(SELECT 1 FROM ledger u WHERE u.undo_of = l.id AND u.result = 'done') ORDER BY l.id");
    while (query.executeStep()) {
      Attic one{TxnId{query.getColumn(0).getInt64()}, query.getColumn(1).getInt64()};
      if (!query.getColumn(2).isNull()) one.bytes = size_in(query.getColumn(2).getInt64(), connection_->path);
      result.push_back(one);
    }
    return result;
  });
}

std::optional<TxnId> AtticStore::given_up(TxnId id) const {
  return guarded(connection_->path, [&]() -> std::optional<TxnId> {
    for (auto by = connection_->undone_by(id); by; by = connection_->undone_by(id)) id = *by;
    SQLite::Statement query(connection_->database, "SELECT dropped FROM attics WHERE txn = ? AND dropped IS NOT NULL");
    set_values(query, id);
    if (!query.executeStep()) return std::nullopt;
    return TxnId{query.getColumn(0).getInt64()};
  });
}

void AtticStore::remember_sizes(const std::vector<Attic>& attics) {
  guarded(connection_->path, [&] {
    // whoever reads several things in one piece is not disturbed: the next one that asks counts again
    if (sqlite3_get_autocommit(connection_->database.getHandle()) == 0) return;
    SQLite::Transaction step(connection_->database);
    for (const Attic& one : attics) connection_->put_size(one.id, one.bytes.value_or(0));
    step.commit();
  });
}

void Connection::put_size(TxnId attic, ByteCount bytes) {
  SQLite::Statement put(database,
                        "INSERT INTO attics(txn, bytes) VALUES(?1, ?2) ON CONFLICT(txn) DO UPDATE SET bytes = ?2");
  run(put, attic, bytes);
}

/// The moves go with the attic: nobody can take them back. What was put aside to be settled keeps its history, which
/// tells a rollback what waited when.
void Connection::give_up(const std::vector<TxnId>& attics, TxnId by) {
  if (attics.empty()) return;
  HAMBREL_ASSERT(number(by) > 0, "a transaction gives them up");
  SQLite::Statement mark(
      database,
      "INSERT INTO attics(txn, bytes, dropped) VALUES(?1, 0, ?2) ON CONFLICT(txn) DO UPDATE SET dropped = ?2");
  SQLite::Statement drop(database, "DELETE FROM moves WHERE txn = ? AND path NOT LIKE 'var/lib/hambrel/configs%'");
  SQLite::Statement before(database, "SELECT undo_of FROM ledger WHERE id = ?");
  for (const TxnId attic : attics) {
    HAMBREL_ASSERT(number(attic) > 0 && attic != by, "an attic is of an earlier transaction");
    run(mark, attic, by);
    for (std::int64_t id = number(attic); id != 0;) {  // and those whose files it had taken over
      run(drop, id);
      set_values(before, id);
      const bool found = before.executeStep() && !before.getColumn(0).isNull();
      const std::int64_t next = found ? before.getColumn(0).getInt64() : 0;
      id = next < id ? next : 0;  // only earlier ones can be taken back
      before.reset();
    }
  }
}

}  // namespace hambrel::state
