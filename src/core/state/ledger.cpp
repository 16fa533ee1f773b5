// The ledger and the changes it records.
#include <fmt/format.h>

#include "base/json.h"
#include "state/state_impl.h"

namespace hambrel::state {

Digest chain_digest(const LedgerEntry& entry) {
  Json object = {{"id", number(entry.id)}, {"started", entry.started},       {"ended", entry.ended},
                 {"user", entry.user},     {"command", entry.command},       {"kind", entry.kind},
                 {"note", entry.note},     {"result", entry.result},         {"problem", entry.problem},
                 {"plan", entry.plan},     {"downloaded", entry.downloaded}, {"previous", entry.previous.hex()}};
  if (entry.undo_of) object["undo_of"] = number(*entry.undo_of);
  return sha256(canonical(object));
}

LedgerEntry State::Impl::read_entry(SQLite::Statement& row) const {
  LedgerEntry entry;
  entry.id = TxnId{row.getColumn(0).getInt64()};
  entry.started = row.getColumn(1).getInt64();
  entry.ended = row.getColumn(2).getInt64();
  entry.user = row.getColumn(3).getString();
  entry.command = row.getColumn(4).getString();
  entry.kind = row.getColumn(5).getString();
  entry.note = row.getColumn(6).getString();
  entry.result = row.getColumn(7).getString();
  entry.problem = row.getColumn(8).getString();
  if (!row.getColumn(9).isNull()) entry.undo_of = TxnId{row.getColumn(9).getInt64()};
  entry.plan = row.getColumn(10).getString();
  entry.downloaded = static_cast<ByteCount>(row.getColumn(11).getInt64());
  entry.previous = Digest::from_hex(row.getColumn(12).getString()).value_or(Digest{});
  entry.digest = Digest::from_hex(row.getColumn(13).getString()).value_or(Digest{});
  return entry;
}

std::vector<LedgerEntry> State::ledger(std::size_t most) const {
  return guarded(impl_->path, [&] {
    std::vector<LedgerEntry> result;
    SQLite::Statement query(impl_->database,
                            fmt::format("SELECT {} FROM ledger ORDER BY id DESC LIMIT ?", kLedgerColumns));
    query.bind(1, static_cast<std::int64_t>(most));
    while (query.executeStep()) result.push_back(impl_->read_entry(query));
    return result;
  });
}

std::optional<LedgerEntry> State::ledger_entry(TxnId id) const {
  return guarded(impl_->path, [&]() -> std::optional<LedgerEntry> {
    SQLite::Statement query(impl_->database, fmt::format("SELECT {} FROM ledger WHERE id = ?", kLedgerColumns));
    query.bind(1, number(id));
    if (!query.executeStep()) return std::nullopt;
    return impl_->read_entry(query);
  });
}

std::vector<PackageChange> State::changes_of(TxnId id) const {
  return guarded(impl_->path, [&] {
    std::vector<PackageChange> result;
    SQLite::Statement query(impl_->database,
                            "SELECT name, before_package, before_reason, before_hold, before_shelved, after_package,"
                            " after_reason, after_hold, after_shelved FROM changes WHERE ledger = ? ORDER BY seq");
    query.bind(1, number(id));
    const auto side = [&](int column, std::optional<std::int64_t>& row, std::optional<StatePackage>& value) {
      if (query.getColumn(column).isNull()) return;
      row = query.getColumn(column).getInt64();
      value = package(*row);
      value->reason = reason_from(query.getColumn(column + 1).getString()).value_or(value->reason);
      value->hold = hold_from(query.getColumn(column + 2).getString(), impl_->path);
      value->shelved = query.getColumn(column + 3).getInt() != 0;
    };
    while (query.executeStep()) {
      PackageChange change;
      change.name = query.getColumn(0).getString();
      side(1, change.before_row, change.before);
      side(5, change.after_row, change.after);
      result.push_back(std::move(change));
    }
    return result;
  });
}

std::optional<TxnId> State::undone_by(TxnId id) const {
  return guarded(impl_->path, [&]() -> std::optional<TxnId> {
    SQLite::Statement query(impl_->database,
                            "SELECT id FROM ledger WHERE undo_of = ? AND result = 'done' ORDER BY id DESC LIMIT 1");
    query.bind(1, number(id));
    if (!query.executeStep()) return std::nullopt;
    return TxnId{query.getColumn(0).getInt64()};
  });
}

std::vector<std::string> State::damage() const {
  return guarded(impl_->path, [&] {
    std::vector<std::string> problems;
    SQLite::Statement check(impl_->database, "PRAGMA integrity_check(10)");
    while (check.executeStep())
      if (const std::string line = check.getColumn(0).getString(); line != "ok")
        problems.push_back("the state database is damaged: " + line);
    auto entries = ledger(SIZE_MAX >> 1U);
    Digest previous;
    for (auto entry = entries.rbegin(); entry != entries.rend(); ++entry) {
      if (entry->previous != previous)
        problems.push_back(fmt::format("the chain of the ledger is broken before transaction {}", number(entry->id)));
      if (entry->digest != chain_digest(*entry))
        problems.push_back(fmt::format("the ledger's entry of transaction {} was altered", number(entry->id)));
      previous = entry->digest;
    }
    return problems;
  });
}

TxnId State::next_id() const {
  return guarded(impl_->path, [&] {
    return TxnId{impl_->database
                     .execAndGet("SELECT 1 + max(coalesce((SELECT max(id) FROM ledger), 0),"
                                 " coalesce((SELECT max(txn) FROM journal), 0))")
                     .getInt64()};
  });
}

TxnId State::last_done() const {
  return guarded(impl_->path, [&] {
    return TxnId{impl_->database
                     .execAndGet(fmt::format(
                         "SELECT coalesce(max(id), 0) FROM ledger WHERE result = 'done' AND kind <> '{}'", kGivingUp))
                     .getInt64()};
  });
}

void State::Impl::insert_entry(LedgerEntry& entry) {
  SQLite::Statement last(database, "SELECT digest FROM ledger ORDER BY id DESC LIMIT 1");
  if (last.executeStep()) entry.previous = Digest::from_hex(last.getColumn(0).getString()).value_or(Digest{});
  last.reset();
  entry.digest = chain_digest(entry);
  insert_entry_as_is(entry);
}

void State::Impl::insert_entry_as_is(const LedgerEntry& entry) {
  SQLite::Statement insert(
      database, fmt::format("INSERT INTO ledger({}) VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", kLedgerColumns));
  insert.bind(1, number(entry.id));
  insert.bind(2, entry.started);
  insert.bind(3, entry.ended);
  insert.bind(4, entry.user);
  insert.bind(5, entry.command);
  insert.bind(6, entry.kind);
  insert.bind(7, entry.note);
  insert.bind(8, entry.result);
  insert.bind(9, entry.problem);
  if (entry.undo_of) insert.bind(10, number(*entry.undo_of));
  insert.bind(11, entry.plan);
  insert.bind(12, static_cast<std::int64_t>(entry.downloaded));
  insert.bind(13, entry.previous.hex());
  insert.bind(14, entry.digest.hex());
  insert.exec();
}

void State::Impl::insert_changes(TxnId id, const std::vector<PackageChange>& changes) {
  // What leaves goes first, so that no two installed rows of one name ever stand together.
  for (const PackageChange& change : changes) {
    const bool stays = change.before_row == change.after_row && change.after && !change.after->shelved;
    if (!change.before_row || stays) continue;
    Repeated leave = repeat("UPDATE packages SET state = 'attic', shelved = 0 WHERE id = ?");
    leave->bind(1, *change.before_row);
    leave->exec();
  }
  // Lists that were read while planning serve here; those of rows that are new now are not remembered: the rows may go
  // again, and others come under their numbers.
  std::int64_t sequence = 0;
  next_slot.reset();
  try {
    for (const PackageChange& change : changes) insert_change(id, sequence++, change);
  } catch (...) {
    forget_lists();
    throw;
  }
  forget_lists();
}

void State::Impl::insert_change(TxnId id, std::int64_t sequence, const PackageChange& given) {
  PackageChange change = given;
  if (change.after && !change.after_row) change.after_row = insert_package(*change.after, change.files, "installed");
  const std::optional<std::int64_t> after = change.after ? change.after_row : std::nullopt;
  const auto here = [](const auto& row, const auto& value) { return row && !value->shelved ? row : std::nullopt; };
  const auto was_here = here(change.before_row, change.before), is_here = here(after, change.after);
  if (was_here != is_here) {
    const std::int64_t slot = change.before_row ? slot_of(*change.before_row) : new_slot();
    index(slot, change.index ? *change.index : index_change(change));
    if (after) put_into(slot, *after);
  }
  if (change.after) {
    Repeated enter = repeat("UPDATE packages SET state = ?, shelved = ?, reason = ?, hold = ? WHERE id = ?");
    enter->bind(1, change.after->shelved ? "attic" : "installed");
    enter->bind(2, change.after->shelved ? 1 : 0);
    enter->bind(3, std::string(text_of(change.after->reason)));
    enter->bind(4, hold_text(change.after->hold));
    enter->bind(5, *after);
    enter->exec();
  }
  Repeated insert = repeat(
      "INSERT INTO changes(ledger, seq, name, before_package, before_reason, before_hold,"
      " before_shelved, after_package, after_reason, after_hold, after_shelved)"
      " VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
  insert->bind(1, number(id));
  insert->bind(2, sequence);
  insert->bind(3, change.name);
  const auto side = [&](int column, const std::optional<std::int64_t>& row, const std::optional<StatePackage>& value) {
    if (!row)
      return insert->bind(column), insert->bind(column + 1), insert->bind(column + 2), insert->bind(column + 3, 0);
    insert->bind(column, *row);
    insert->bind(column + 1, std::string(text_of(value->reason)));
    insert->bind(column + 2, hold_text(value->hold));
    insert->bind(column + 3, value->shelved ? 1 : 0);
  };
  side(4, change.before_row, change.before);
  side(8, after, change.after);
  insert->exec();
}

void State::commit(LedgerEntry entry, const std::vector<PackageChange>& changes, const Commit& beside,
                   const Await& await) {
  guarded(impl_->path, [&] {
    std::size_t files = 0;
    for (const PackageChange& one : changes) files += one.files.size();
    const bool held = std::max(files, beside.times.size()) <= Impl::kMostHeld;
    if (await && !held) await();
    SQLite::Transaction step(impl_->database);
    impl_->insert_entry(entry);
    impl_->insert_changes(entry.id, changes);
    SQLite::Statement update(impl_->database, "UPDATE times SET after_s = ?, after_ns = ? WHERE txn = ? AND path = ?");
    for (const DirectoryTime& time : beside.times) {
      update.bind(1, time.after_seconds);
      update.bind(2, time.after_nanoseconds);
      update.bind(3, number(entry.id));
      update.bind(4, time.path);
      update.exec();
      update.reset();
    }
    if (beside.prepared) impl_->mark_activated(*beside.prepared, entry.id);
    if (beside.attic) impl_->put_size(entry.id, *beside.attic);
    impl_->give_up(beside.gives_up, entry.id);
    impl_->end_journal();
    if (await && held) await();
    step.commit();
  });
}

void State::close_taken_back(LedgerEntry entry) {
  guarded(impl_->path, [&] {
    SQLite::Transaction step(impl_->database);
    impl_->insert_entry(entry);
    for (const char* table : {"moves", "times"}) {
      SQLite::Statement drop(impl_->database, fmt::format("DELETE FROM {} WHERE txn = ?", table));
      drop.bind(1, number(entry.id));
      drop.exec();
    }
    impl_->end_journal();
    step.commit();
  });
}

void State::record(LedgerEntry entry, const std::vector<PackageChange>& changes, const std::vector<TxnId>& gives_up) {
  guarded(impl_->path, [&] {
    SQLite::Transaction step(impl_->database);
    impl_->insert_entry(entry);
    impl_->insert_changes(entry.id, changes);
    impl_->give_up(gives_up, entry.id);
    step.commit();
  });
}

}  // namespace hambrel::state
