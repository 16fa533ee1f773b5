// The ledger and the changes it records.
#include <fmt/format.h>

#include <algorithm>
#include <tuple>

#include "base/assert.h"
#include "base/json.h"
#include "base/text.h"
#include "model/manifest.h"
#include "state/state_impl.h"

namespace hambrel::state {

Digest chain_digest(const LedgerEntry& entry, std::string_view changes) {
  Json object = {{"id", number(entry.id)}, {"started", entry.started},       {"ended", entry.ended},
                 {"user", entry.user},     {"command", entry.command},       {"kind", entry.kind},
                 {"note", entry.note},     {"result", entry.result},         {"problem", entry.problem},
                 {"plan", entry.record},   {"downloaded", entry.downloaded}, {"previous", entry.previous.hex()}};
  if (entry.undo_of) object["undo_of"] = number(*entry.undo_of);
  if (entry.chain > 1) {
    object["chain"] = entry.chain;
    object["changes"] = sha256(changes).hex();
    object["moves"] = entry.moves.hex();
  }
  return sha256(canonical(object));
}

std::optional<PackageChange::Brings> digests_of(const PackageChange& change) {
  if (!change.after || change.after_row) return std::nullopt;
  return PackageChange::Brings{sha256(manifest_text(change.after->package)), sha256(change.files.bytes())};
}

Digest digest_of(const std::vector<Move>& moves, const std::vector<GeneratedChange>& generated,
                 const std::vector<LineChange>& lines, const std::vector<FollowChange>& follows) {
  Sha256 running;
  std::string text;
  for (const Move& one : moves) {
    const auto& [before, after] = one.attributes_change();
    text.clear();
    fmt::format_to(std::back_inserter(text), "{} {} {} {} {} {} {} {} {} {} {}\n", static_cast<int>(one.kind),
                   one.inode_new, one.inode_old, before.mode, before.uid, before.gid, after.mode, after.uid, after.gid,
                   one.put_away_seconds, one.put_away_nanoseconds);
    for (const SharedText* const part : {&one.path, &one.place, &one.home}) {
      text += part->view();
      text += '\0';
    }
    running.update(text);
  }
  for (const GeneratedChange& one : generated) running.update(text_of(one));
  for (const LineChange& one : lines) {
    text = fmt::format("{} ", static_cast<int>(one.what));
    for (const std::string& part : {one.path, one.line, one.member}) {
      text += part;
      text += '\0';
    }
    running.update(text);
  }
  for (const FollowChange& one : follows)
    running.update(fmt::format("follow {} {} {}\n", one.name, one.before, one.after));
  return running.finish();
}

LedgerEntry Connection::read_entry(SQLite::Statement& row) const {
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
  entry.record = row.getColumn(10).getString();
  entry.downloaded = static_cast<ByteCount>(row.getColumn(11).getInt64());
  entry.previous = Digest::from_hex(row.getColumn(12).getString()).value_or(Digest{});
  entry.digest = Digest::from_hex(row.getColumn(13).getString()).value_or(Digest{});
  entry.chain = row.getColumn(14).getInt();
  entry.moves = Digest::from_hex(row.getColumn(15).getString()).value_or(Digest{});
  // whoever follows them from one to the next comes to an end
  if (entry.undo_of && (number(*entry.undo_of) <= 0 || number(*entry.undo_of) >= number(entry.id)))
    throw Error(ErrorCode::Invalid,
                fmt::format("transaction {} undoes transaction {}, which is not an earlier one", number(entry.id),
                            number(*entry.undo_of)),
                path);
  return entry;
}

std::vector<LedgerEntry> LedgerStore::ledger(std::size_t most) const {
  return guarded(connection_->path, [&] {
    std::vector<LedgerEntry> result;
    SQLite::Statement query(connection_->database,
                            fmt::format("SELECT {} FROM ledger ORDER BY id DESC LIMIT ?", kLedgerColumns));
    set_values(query, most);
    while (query.executeStep()) result.push_back(connection_->read_entry(query));
    return result;
  });
}

std::optional<LedgerEntry> LedgerStore::ledger_entry(TxnId id) const {
  return guarded(connection_->path, [&]() -> std::optional<LedgerEntry> {
    SQLite::Statement query(connection_->database, fmt::format("SELECT {} FROM ledger WHERE id = ?", kLedgerColumns));
    set_values(query, id);
    if (!query.executeStep()) return std::nullopt;
    return connection_->read_entry(query);
  });
}

std::vector<PackageChange> LedgerStore::changes_of(TxnId id) const {
  return guarded(connection_->path, [&] { return connection_->read_changes(id); });
}

std::vector<PackageChange> Connection::read_changes(TxnId id) {
  std::vector<PackageChange> result;
  SQLite::Statement query(database,
                          "SELECT name, before_package, before_reason, before_hold, before_shelved, after_package,"
                          " after_reason, after_hold, after_shelved FROM changes WHERE ledger = ? ORDER BY seq");
  set_values(query, id);
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
    if (!change.before && !change.after)
      throw Error(ErrorCode::Invalid, fmt::format("transaction {} records a change of nothing", number(id)), path);
    result.push_back(std::move(change));
  }
  return result;
}

std::optional<TxnId> Connection::undone_by(TxnId id) {
  SQLite::Statement query(database,
                          "SELECT id FROM ledger WHERE undo_of = ?1 AND id > ?1 AND result = 'done'"
                          " ORDER BY id DESC LIMIT 1");
  set_values(query, id);
  if (!query.executeStep()) return std::nullopt;
  return TxnId{query.getColumn(0).getInt64()};
}

std::optional<TxnId> LedgerStore::undone_by(TxnId id) const {
  return guarded(connection_->path, [&] { return connection_->undone_by(id); });
}

/// Of a row that is there, most facts are the row's own; a change gives it another reason, hold or shelf.
StatePackage Connection::as_recorded(std::int64_t package_row, const StatePackage& change) {
  ScopedStatement query = repeat("SELECT version, arch, origin, digest, time FROM packages WHERE id = ?");
  set_values(*query, package_row);
  StatePackage result = change;
  if (!query->executeStep()) return result;
  result.package.version = Version::parse(query->getColumn(0).getString()).value_or(change.package.version);
  result.package.arch = architecture_from(query->getColumn(1).getString());
  result.origin = query->getColumn(2).getString();
  result.digest = Digest::from_hex(query->getColumn(3).getString()).value_or(Digest{});
  result.time = query->getColumn(4).getInt64();
  return result;
}

PackageChange::Brings Connection::brings_of(std::int64_t package_row) {
  ScopedStatement query =
      repeat("SELECT manifest, (SELECT list FROM lists WHERE package = ?1) FROM packages WHERE id = ?1");
  set_values(*query, package_row);
  if (!query->executeStep()) return {};
  const auto list = query->getColumn(1);
  const auto bytes =
      std::string_view(static_cast<const char*>(list.getBlob()), static_cast<std::size_t>(list.getBytes()));
  return {sha256(query->getColumn(0).getString()), sha256(bytes)};
}

bool Connection::is_told_of(std::int64_t package_row) {
  ScopedStatement query = repeat("SELECT 1 FROM changes WHERE after_package = ? LIMIT 1");
  set_values(*query, package_row);
  return query->executeStep();
}

/// The changes with what came into the state with each: the first change that names a row as what is there after it.
std::vector<PackageChange> Connection::changes_in_full(TxnId id) {
  SQLite::Statement query(database,
                          "SELECT seq, after_package FROM changes c WHERE ledger = ?1"
                          " AND after_package IS NOT NULL AND NOT EXISTS(SELECT 1 FROM changes e WHERE"
                          " e.after_package = c.after_package AND (e.ledger < c.ledger OR (e.ledger = c.ledger AND"
                          " e.seq < c.seq))) ORDER BY seq");
  set_values(query, id);
  std::vector<std::pair<std::size_t, PackageChange::Brings>> brought;
  while (query.executeStep())
    brought.emplace_back(static_cast<std::size_t>(query.getColumn(0).getInt64()),
                         brings_of(query.getColumn(1).getInt64()));
  std::vector<PackageChange> changes = read_changes(id);
  for (auto& [sequence, brings] : brought)
    if (sequence < changes.size()) changes[sequence].brings = brings;
  return changes;
}

std::string Connection::read_told(TxnId id) {
  SQLite::Statement told(database, "SELECT told, chain FROM ledger WHERE id = ?");
  set_values(told, id);
  if (!told.executeStep()) return {};
  if (!told.getColumn(0).isNull()) return told.getColumn(0).getString();
  return changes_text(changes_in_full(id), told.getColumn(1).getInt());
}

std::string LedgerStore::changes_told(TxnId id) const {
  if (connection_->committed.id == id) return connection_->committed.told;
  return guarded(connection_->path, [&] { return connection_->read_told(id); });
}

std::vector<std::pair<TxnId, std::int64_t>> LedgerStore::ends() const {
  return guarded(connection_->path, [&] {
    std::vector<std::pair<TxnId, std::int64_t>> result;
    SQLite::Statement query(connection_->database,
                            "SELECT id, ended FROM ledger WHERE id >= (SELECT min(txn) FROM moves) ORDER BY id");
    while (query.executeStep())
      result.emplace_back(TxnId{query.getColumn(0).getInt64()}, query.getColumn(1).getInt64());
    return result;
  });
}

std::vector<std::string> State::damage() const {
  return guarded(connection_->path, [&] {
    std::vector<std::string> problems;
    static_cast<void>(journal());  // throws where it can't be read
    SQLite::Statement check(connection_->database, "PRAGMA integrity_check(10)");
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
      if (weaker || entry->digest != chain_digest(*entry, entry->chain > 1 ? connection_->read_told(entry->id) : ""))
        problems.push_back(fmt::format("the ledger's entry of transaction {} was modified", number(entry->id)));
      const auto moves = moves_of(entry->id);
      const bool whole = entry->chain > 1 && !moves.empty() && !given_up(entry->id);
      if (whole && digest_of(moves, generated_changes_of(entry->id), lines_of(entry->id),
                             follow_changes_of(entry->id)) != entry->moves)
        problems.push_back(
            fmt::format("the ledger's record of the files of transaction {} was modified", number(entry->id)));
      previous = entry->digest;
      chain = std::max(chain, entry->chain);
    }
    SQLite::Statement head(connection_->database, "SELECT id, digest FROM head");
    const bool known = head.executeStep();
    const bool same = known && !entries.empty() && head.getColumn(0).getInt64() == number(entries[0].id) &&
                      head.getColumn(1).getString() == previous.hex();
    if (known != !entries.empty() || (known && !same))
      problems.emplace_back("the end of the ledger was cut off or modified");
    return problems;
  });
}

/// Transactions are numbered one after the other, and whoever goes through them counts on it: with one number far
/// beyond the others he would not come to an end.
void Connection::require_dense_numbers() {
  if (numbers_are_dense) return;
  const std::int64_t entries = database.execAndGet("SELECT count(*) FROM ledger").getInt64();
  const std::int64_t last = database.execAndGet("SELECT coalesce(max(id), 0) FROM ledger").getInt64();
  if (last > entries)
    throw Error(ErrorCode::Invalid, fmt::format("the ledger has a transaction {}, but only {} of them", last, entries),
                path);
  numbers_are_dense = true;
}

TxnId LedgerStore::next_id() const {
  return guarded(connection_->path, [&] {
    connection_->require_dense_numbers();
    return TxnId{connection_->database
                     .execAndGet("SELECT 1 + max(coalesce((SELECT max(id) FROM ledger), 0),"
                                 " coalesce((SELECT max(txn) FROM journal), 0))")
                     .getInt64()};
  });
}

TxnId LedgerStore::last_done() const {
  return guarded(connection_->path, [&] {
    return TxnId{connection_->database
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

std::string Connection::insert_entry(LedgerEntry& entry, const std::vector<PackageChange>& given) {
  SQLite::Statement last(database, "SELECT digest FROM ledger ORDER BY id DESC LIMIT 1");
  if (last.executeStep()) entry.previous = Digest::from_hex(last.getColumn(0).getString()).value_or(Digest{});
  last.reset();
  HAMBREL_ASSERT(number(entry.id) > 0 && entry.chain == kChain, "new entries have numbers and today's chain");
  clean(entry);
  std::vector<PackageChange> changes;  // as they will be read back
  changes.reserve(given.size());
  for (const PackageChange& one : given) {
    PackageChange& told = changes.emplace_back();
    told.name = one.name;
    if (one.before_row) told.before = as_recorded(*one.before_row, *one.before);
    if (one.after) told.after = one.after_row ? as_recorded(*one.after_row, *one.after) : *one.after;
    if (one.after && !one.after_row)
      told.brings = one.brings ? one.brings : digests_of(one);
    else if (one.after && !is_told_of(*one.after_row))  // its row was made when it was prepared
      told.brings = brings_of(*one.after_row);
  }
  HAMBREL_ASSERT(changes.size() == given.size(), "each change is told");
  HAMBREL_ASSERT(!entry.undo_of || number(*entry.undo_of) < number(entry.id), "only earlier ones are taken back");
  std::string text = changes_text(changes);
  entry.digest = chain_digest(entry, text);
  insert_entry_as_is(entry, "");
  return text;
}

void Connection::insert_entry_as_is(const LedgerEntry& entry, const std::string& told) {
  SQLite::Statement insert(
      database, fmt::format("INSERT INTO ledger({}, told) VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                            kLedgerColumns));
  run(insert, entry.id, entry.started, entry.ended, entry.user, entry.command, entry.kind, entry.note, entry.result,
      entry.problem, entry.undo_of, entry.record, entry.downloaded, entry.previous, entry.digest, entry.chain,
      entry.moves, told.empty() ? std::nullopt : std::optional(told));
  SQLite::Statement head(database, "INSERT OR REPLACE INTO head VALUES(1, ?, ?)");
  run(head, entry.id, entry.digest);
}

void Connection::put_away(TxnId id, const std::vector<Move>& moves) {
  std::string times;
  times.reserve(moves.size() * 16);
  for (const Move& one : moves)
    for (const std::int64_t value : {one.put_away_seconds, one.put_away_nanoseconds})
      for (unsigned shift = 0; shift < 64; shift += 8) times.push_back(static_cast<char>(value >> shift & 255));
  SQLite::Statement put(database, "INSERT OR REPLACE INTO put_away VALUES(?, ?)");
  put.bind(1, number(id));
  put.bind(2, times.data(), static_cast<int>(times.size()));  // a blob
  put.exec();
}

void Connection::insert_changes(TxnId id, const std::vector<PackageChange>& changes) {
  // What leaves goes first, so that no two installed rows of one name ever stand together.
  for (const PackageChange& change : changes) {
    const bool stays = change.before_row == change.after_row && change.after && !change.after->shelved;
    if (!change.before_row || stays) continue;
    ScopedStatement leave = repeat("UPDATE packages SET state = 'attic', shelved = 0 WHERE id = ?");
    const int left = run(*leave, *change.before_row);
    HAMBREL_ASSERT(left == 1, "what leaves has a row");
  }
  // Lists that were read while planning serve here; those of rows that are new now are not remembered: the rows may go
  // again, and others come under their numbers.
  std::int64_t sequence = 0;
  next_slot.reset();
  try {
    IndexRows rows;
    std::size_t come = 0;
    for (const PackageChange& change : changes) come += change.index ? change.index->come.size() : 0;
    rows.come.reserve(come);
    const bool renewed = renew_if_most_leave(changes, rows);
    for (const PackageChange& change : changes) insert_change(id, sequence++, change, renewed, rows);
    index(std::move(rows));
  } catch (...) {
    forget_lists();
    throw;
  }
  forget_lists();
}

/// `renewed`: the index holds nothing of what leaves any more.
void Connection::insert_change(TxnId id, std::int64_t sequence, const PackageChange& given, bool renewed,
                               IndexRows& rows) {
  HAMBREL_ASSERT(given.before || given.after, "a change has a side");
  HAMBREL_ASSERT(!given.before || given.before_row, "what was there has a row");
  PackageChange change = given;
  if (change.after && !change.after_row) change.after_row = insert_package(*change.after, change.files, "installed");
  const std::optional<std::int64_t> after = change.after ? change.after_row : std::nullopt;
  const auto here = [](const auto& row, const auto& value) { return row && !value->shelved ? row : std::nullopt; };
  const auto was_here = here(change.before_row, change.before), is_here = here(after, change.after);
  HAMBREL_ASSERT(!change.after || after, "what comes has a row by now");
  if (was_here != is_here) {
    const std::int64_t slot = change.before_row ? slot_of(*change.before_row) : new_slot();
    HAMBREL_ASSERT(slot > 0 || change.before_row, "slots are numbered from 1");
    if (is_here || !renewed) add_to(rows, slot, change.index ? *change.index : index_change(change));
    if (after) put_into(slot, *after);
  }
  if (change.after) {
    ScopedStatement enter = repeat("UPDATE packages SET state = ?, shelved = ?, reason = ?, hold = ? WHERE id = ?");
    const int came = run(*enter, change.after->shelved ? "attic" : "installed", change.after->shelved,
                         std::string(text_of(change.after->reason)), hold_text(change.after->hold), *after);
    HAMBREL_ASSERT(came == 1, "what comes has one row");
  }
  ScopedStatement insert = repeat(
      "INSERT INTO changes(ledger, seq, name, before_package, before_reason, before_hold,"
      " before_shelved, after_package, after_reason, after_hold, after_shelved)"
      " VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
  const auto reason_in = [](const auto& row, const auto& value) {
    return row ? std::optional(std::string(text_of(value->reason))) : std::nullopt;
  };
  const auto hold_in = [](const auto& row, const auto& value) {
    return row ? std::optional(hold_text(value->hold)) : std::nullopt;
  };
  const auto& before = change.before_row;
  run(*insert, id, sequence, change.name, before, reason_in(before, change.before), hold_in(before, change.before),
      before && change.before->shelved, after, reason_in(after, change.after), hold_in(after, change.after),
      after && change.after->shelved);
}

void State::commit(LedgerEntry entry, const std::vector<PackageChange>& changes, const Commit& beside,
                   const Await& await) {
  guarded(connection_->path, [&] {
    std::size_t files = 0;
    for (const PackageChange& one : changes) files += one.files.size();
    const bool held = std::max(files, beside.times.size()) <= Connection::kMostHeld;
    if (await && !held) await();
    SQLite::Transaction step(connection_->database);
    HAMBREL_ASSERT(entry.result == "done", "what is committed was done");
    HAMBREL_ASSERT(connection_->journal_id() == entry.id, "what is committed was journaled");
    const std::vector<Move> none;
    const std::vector<Move>& moves = beside.moves != nullptr ? *beside.moves : none;
    entry.moves = digest_of(moves, beside.generated, beside.lines, beside.follows);
    std::string told = connection_->insert_entry(entry, changes);
    connection_->insert_changes(entry.id, changes);
    const bool puts_away =
        std::any_of(moves.begin(), moves.end(), [](const Move& one) { return one.put_away_seconds != 0; });
    if (puts_away) connection_->put_away(entry.id, moves);
    SQLite::Statement update(connection_->database,
                             "UPDATE times SET after_s = ?, after_ns = ? WHERE txn = ? AND path = ?");
    for (const DirectoryTime& time : beside.times)
      HAMBREL_ASSERT(run(update, time.after_seconds, time.after_nanoseconds, entry.id, time.path) == 1,
                     "its time before stands in the journal");
    if (beside.prepared) connection_->mark_activated(*beside.prepared, entry.id);
    if (beside.attic) connection_->put_size(entry.id, *beside.attic);
    connection_->put_generated(entry.id, beside.generated);
    connection_->put_runs(entry.id, beside.runs);
    connection_->put_lines(entry.id, beside.lines);
    connection_->put_picks(entry.id, beside.picks);
    connection_->put_answers(beside.answers);
    connection_->put_follows(entry.id, beside.follows);
    connection_->give_up(beside.gives_up, entry.id);
    connection_->end_journal();
    HAMBREL_ASSERT(!connection_->journal_id(), "what is committed is open no more");
    if (await && held) await();
    step.commit();
    connection_->committed = {entry.id, std::move(told)};
  });
}

void JournalStore::close_taken_back(LedgerEntry entry) {
  guarded(connection_->path, [&] {
    SQLite::Transaction step(connection_->database);
    HAMBREL_ASSERT(entry.result != "done", "what is taken back was not done");
    HAMBREL_ASSERT(connection_->journal_id() == entry.id, "what is taken back was journaled");
    entry.moves = digest_of({}, {}, {}, {});
    std::ignore = connection_->insert_entry(entry, {});
    for (const char* table : {"moves", "times"}) {
      SQLite::Statement drop(connection_->database, fmt::format("DELETE FROM {} WHERE txn = ?", table));
      run(drop, entry.id);
    }
    connection_->end_journal();
    step.commit();
  });
}

void LedgerStore::record(LedgerEntry entry, const std::vector<PackageChange>& changes,
                         const std::vector<TxnId>& gives_up, const std::vector<RunRecord>& runs) {
  guarded(connection_->path, [&] {
    SQLite::Transaction step(connection_->database);
    HAMBREL_ASSERT(connection_->journal_id() != entry.id, "what moves files is committed instead");
    HAMBREL_ASSERT(entry.result == "done" || changes.empty(), "what failed changed nothing");
    entry.moves = digest_of({}, {}, {}, {});
    std::string told = connection_->insert_entry(entry, changes);
    connection_->insert_changes(entry.id, changes);
    connection_->put_runs(entry.id, runs);
    connection_->give_up(gives_up, entry.id);
    step.commit();
    connection_->committed = {entry.id, std::move(told)};
  });
}

void LedgerStore::add_runs(TxnId id, const std::vector<RunRecord>& runs) {
  guarded(connection_->path, [&] {
    SQLite::Transaction step(connection_->database);
    connection_->put_runs(id, runs);
    step.commit();
  });
}

}  // namespace hambrel::state
