// The ledger and the changes it records.
#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "model/manifest.h"
#include "state/state_impl.h"

namespace hambrel::state {

Digest chain_digest(const LedgerEntry& entry, std::string_view changes) {
  Json object = {{"id", number(entry.id)}, {"started", entry.started},       {"ended", entry.ended},
                 {"user", entry.user},     {"command", entry.command},       {"kind", entry.kind},
                 {"note", entry.note},     {"result", entry.result},         {"problem", entry.problem},
                 {"plan", entry.plan},     {"downloaded", entry.downloaded}, {"previous", entry.previous.hex()}};
  if (entry.undo_of) object["undo_of"] = number(*entry.undo_of);
  if (entry.chain > 1) {
    object["chain"] = entry.chain;
    object["changes"] = sha256(changes).hex();
    object["moves"] = entry.moves.hex();
  }
  return sha256(canonical(object));
}

Digest digest_of(const std::vector<Move>& moves) {
  Sha256 running;
  std::string text;
  for (const Move& one : moves) {
    text = fmt::format("{} {} {} {} {} {} {} {} {} {} {}\n", static_cast<int>(one.kind), one.inode_new, one.inode_old,
                       one.before.mode, one.before.uid, one.before.gid, one.after.mode, one.after.uid, one.after.gid,
                       one.put_away_seconds, one.put_away_nanoseconds);
    for (const std::string& part : {one.path, one.place, one.home}) {
      text += part;
      text += '\0';
    }
    running.update(text);
  }
  return running.finish();
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
  entry.chain = row.getColumn(14).getInt();
  entry.moves = Digest::from_hex(row.getColumn(15).getString()).value_or(Digest{});
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
  return guarded(impl_->path, [&] { return impl_->read_changes(id); });
}

std::vector<PackageChange> State::Impl::read_changes(TxnId id) {
  std::vector<PackageChange> result;
  SQLite::Statement query(database,
                          "SELECT name, before_package, before_reason, before_hold, before_shelved, after_package,"
                          " after_reason, after_hold, after_shelved FROM changes WHERE ledger = ? ORDER BY seq");
  query.bind(1, number(id));
  const auto side = [&](int column, std::optional<std::int64_t>& row, std::optional<StatePackage>& value) {
    if (query.getColumn(column).isNull()) return;
    row = query.getColumn(column).getInt64();
    value = package_of(*row);
    value->reason = reason_from(query.getColumn(column + 1).getString()).value_or(value->reason);
    value->hold = hold_from(query.getColumn(column + 2).getString(), path);
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

/// Of a row that is there, most facts are the row's own; a change gives it another reason, hold or shelf.
StatePackage State::Impl::as_recorded(std::int64_t package_row, const StatePackage& change) {
  ScopedStatement query = repeat("SELECT version, arch, origin, digest, time FROM packages WHERE id = ?");
  query->bind(1, package_row);
  StatePackage result = change;
  if (!query->executeStep()) return result;
  result.package.version = Version::parse(query->getColumn(0).getString()).value_or(change.package.version);
  result.package.arch = query->getColumn(1).getString();
  result.origin = query->getColumn(2).getString();
  result.digest = Digest::from_hex(query->getColumn(3).getString()).value_or(Digest{});
  result.time = query->getColumn(4).getInt64();
  return result;
}

PackageChange::Brings State::Impl::brings_of(std::int64_t package_row) {
  ScopedStatement query =
      repeat("SELECT manifest, (SELECT list FROM lists WHERE package = ?1) FROM packages WHERE id = ?1");
  query->bind(1, package_row);
  if (!query->executeStep()) return {};
  const auto list = query->getColumn(1);
  const auto bytes =
      std::string_view(static_cast<const char*>(list.getBlob()), static_cast<std::size_t>(list.getBytes()));
  return {sha256(query->getColumn(0).getString()), sha256(bytes)};
}

bool State::Impl::is_told_of(std::int64_t package_row) {
  ScopedStatement query = repeat("SELECT 1 FROM changes WHERE after_package = ? LIMIT 1");
  query->bind(1, package_row);
  return query->executeStep();
}

/// The changes with what came into the state with each: the first change that names a row as what is there after it.
std::vector<PackageChange> State::Impl::changes_in_full(TxnId id) {
  SQLite::Statement query(database,
                          "SELECT seq, after_package FROM changes c WHERE ledger = ?1"
                          " AND after_package IS NOT NULL AND NOT EXISTS(SELECT 1 FROM changes e WHERE"
                          " e.after_package = c.after_package AND (e.ledger < c.ledger OR (e.ledger = c.ledger AND"
                          " e.seq < c.seq))) ORDER BY seq");
  query.bind(1, number(id));
  std::vector<std::pair<std::size_t, PackageChange::Brings>> brought;
  while (query.executeStep())
    brought.emplace_back(static_cast<std::size_t>(query.getColumn(0).getInt64()),
                         brings_of(query.getColumn(1).getInt64()));
  std::vector<PackageChange> changes = read_changes(id);
  for (auto& [sequence, brings] : brought)
    if (sequence < changes.size()) changes[sequence].brings = brings;
  return changes;
}

std::string State::changes_told(TxnId id) const {
  return guarded(impl_->path, [&] {
    SQLite::Statement told(impl_->database, "SELECT told FROM ledger WHERE id = ? AND told IS NOT NULL");
    told.bind(1, number(id));
    if (told.executeStep()) return told.getColumn(0).getString();
    return changes_text(impl_->changes_in_full(id));
  });
}

std::vector<std::pair<TxnId, std::int64_t>> State::ends() const {
  return guarded(impl_->path, [&] {
    std::vector<std::pair<TxnId, std::int64_t>> result;
    SQLite::Statement query(impl_->database, "SELECT id, ended FROM ledger ORDER BY id");
    while (query.executeStep())
      result.emplace_back(TxnId{query.getColumn(0).getInt64()}, query.getColumn(1).getInt64());
    return result;
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
    int chain = 1;
    for (auto entry = entries.rbegin(); entry != entries.rend(); ++entry) {
      if (entry->previous != previous)
        problems.push_back(fmt::format("the chain of the ledger is broken before transaction {}", number(entry->id)));
      const bool weaker = entry->chain < chain;
      if (weaker || entry->digest != chain_digest(*entry, entry->chain > 1 ? changes_told(entry->id) : ""))
        problems.push_back(fmt::format("the ledger's entry of transaction {} was altered", number(entry->id)));
      const auto moves = moves_of(entry->id);
      const bool whole = entry->chain > 1 && !moves.empty() && !given_up(entry->id);
      if (whole && digest_of(moves) != entry->moves)
        problems.push_back(
            fmt::format("what the ledger knows of the files of transaction {} was altered", number(entry->id)));
      previous = entry->digest;
      chain = std::max(chain, entry->chain);
    }
    SQLite::Statement head(impl_->database, "SELECT id, digest FROM head");
    const bool known = head.executeStep();
    const bool same = known && !entries.empty() && head.getColumn(0).getInt64() == number(entries[0].id) &&
                      head.getColumn(1).getString() == previous.hex();
    if (known != !entries.empty() || (known && !same))
      problems.emplace_back("the end of the ledger was cut off or altered");
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

namespace {

/// Text of one line that is UTF-8: whatever somebody called himself or his command, the ledger can be read.
void clean(LedgerEntry& entry) {
  for (std::string* const text : {&entry.user, &entry.command, &entry.kind, &entry.note, &entry.problem})
    *text = printable(*text);
}

}  // namespace

void State::Impl::insert_entry(LedgerEntry& entry, const std::vector<PackageChange>& given) {
  SQLite::Statement last(database, "SELECT digest FROM ledger ORDER BY id DESC LIMIT 1");
  if (last.executeStep()) entry.previous = Digest::from_hex(last.getColumn(0).getString()).value_or(Digest{});
  last.reset();
  clean(entry);
  std::vector<PackageChange> changes;  // as they will be read back
  for (const PackageChange& one : given) {
    PackageChange& told = changes.emplace_back();
    told.name = one.name;
    if (one.before_row) told.before = as_recorded(*one.before_row, *one.before);
    if (one.after) told.after = one.after_row ? as_recorded(*one.after_row, *one.after) : *one.after;
    if (one.after && !one.after_row)
      told.brings = PackageChange::Brings{sha256(manifest_text(one.after->package)), sha256(one.files.bytes())};
    else if (one.after && !is_told_of(*one.after_row))  // its row was made when it was prepared
      told.brings = brings_of(*one.after_row);
  }
  entry.digest = chain_digest(entry, changes_text(changes));
  insert_entry_as_is(entry, "");
}

void State::Impl::insert_entry_as_is(const LedgerEntry& entry, const std::string& told) {
  SQLite::Statement insert(
      database, fmt::format("INSERT INTO ledger({}, told) VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                            kLedgerColumns));
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
  insert.bind(15, entry.chain);
  insert.bind(16, entry.moves.hex());
  if (!told.empty()) insert.bind(17, told);
  insert.exec();
  SQLite::Statement head(database, "INSERT OR REPLACE INTO head VALUES(1, ?, ?)");
  head.bind(1, number(entry.id));
  head.bind(2, entry.digest.hex());
  head.exec();
}

void State::Impl::put_away(TxnId id, const std::vector<Move>& moves) {
  std::string times;
  for (const Move& one : moves)
    for (const std::int64_t value : {one.put_away_seconds, one.put_away_nanoseconds})
      for (unsigned shift = 0; shift < 64; shift += 8) times.push_back(static_cast<char>(value >> shift & 255));
  SQLite::Statement put(database, "INSERT OR REPLACE INTO put_away VALUES(?, ?)");
  put.bind(1, number(id));
  put.bind(2, times.data(), static_cast<int>(times.size()));
  put.exec();
}

void State::Impl::insert_changes(TxnId id, const std::vector<PackageChange>& changes) {
  // What leaves goes first, so that no two installed rows of one name ever stand together.
  for (const PackageChange& change : changes) {
    const bool stays = change.before_row == change.after_row && change.after && !change.after->shelved;
    if (!change.before_row || stays) continue;
    ScopedStatement leave = repeat("UPDATE packages SET state = 'attic', shelved = 0 WHERE id = ?");
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
    ScopedStatement enter = repeat("UPDATE packages SET state = ?, shelved = ?, reason = ?, hold = ? WHERE id = ?");
    enter->bind(1, change.after->shelved ? "attic" : "installed");
    enter->bind(2, change.after->shelved ? 1 : 0);
    enter->bind(3, std::string(text_of(change.after->reason)));
    enter->bind(4, hold_text(change.after->hold));
    enter->bind(5, *after);
    enter->exec();
  }
  ScopedStatement insert = repeat(
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
    entry.moves = digest_of(beside.moves != nullptr ? *beside.moves : std::vector<Move>());
    impl_->insert_entry(entry, changes);
    impl_->insert_changes(entry.id, changes);
    if (beside.moves != nullptr && !beside.moves->empty()) impl_->put_away(entry.id, *beside.moves);
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
    entry.moves = digest_of({});
    impl_->insert_entry(entry, {});
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
    entry.moves = digest_of({});
    impl_->insert_entry(entry, changes);
    impl_->insert_changes(entry.id, changes);
    impl_->give_up(gives_up, entry.id);
    step.commit();
  });
}

}  // namespace hambrel::state
