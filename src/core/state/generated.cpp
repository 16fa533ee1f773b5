// What programs of packages made, and what was run.
#include <fmt/format.h>

#include "base/assert.h"
#include "base/json.h"
#include "state/state_impl.h"

namespace hambrel::state {

std::string text_of(const Generated& one) {
  return canonical({{"package", one.package},
                    {"program", one.program},
                    {"trigger", one.by_trigger},
                    {"type", static_cast<int>(one.entry.type)},
                    {"mode", one.entry.mode},
                    {"user", one.entry.user},
                    {"group", one.entry.group},
                    {"size", one.entry.size},
                    {"digest", one.entry.digest.hex()},
                    {"target", one.entry.target}});
}

Generated generated_from(std::string path, const std::string& text, const std::string& where) {
  const Json whole = parse_json(text, where);
  const JsonObject object(whole, where);
  Generated one;
  one.package = object.text("package");
  one.program = object.text("program");
  one.by_trigger = object.flag_or("trigger", false);
  one.entry.path = std::move(path);
  const std::uint64_t type = object.number("type");
  if (type > static_cast<std::uint64_t>(EntryType::HardLink)) object.wrong("type", "a kind of file");
  one.entry.type = static_cast<EntryType>(type);
  one.entry.mode = static_cast<std::uint32_t>(object.number("mode"));
  one.entry.user = object.text("user");
  one.entry.group = object.text("group");
  one.entry.size = object.number("size");
  one.entry.digest = Digest::from_hex(object.text("digest")).value_or(Digest{});
  one.entry.target = object.text("target");
  return one;
}

std::string text_of(const GeneratedChange& change) {
  const auto side = [](const std::optional<Generated>& one) { return one ? text_of(*one) : std::string("null"); };
  return change.path + '\0' + side(change.before) + '\0' + side(change.after) + '\0';
}

std::vector<Generated> Connection::read_generated(SQLite::Statement& query) const {
  std::vector<Generated> result;
  while (query.executeStep())
    result.push_back(generated_from(query.getColumn(0).getString(), query.getColumn(1).getString(), path));
  return result;
}

std::vector<Generated> GeneratedStore::generated() const {
  return guarded(connection_->path, [&] {
    SQLite::Statement query(connection_->database, "SELECT path, value FROM generated ORDER BY path");
    return connection_->read_generated(query);
  });
}

std::vector<Generated> GeneratedStore::generated_by(const std::string& package) const {
  return guarded(connection_->path, [&] {
    SQLite::Statement query(connection_->database, "SELECT path, value FROM generated WHERE package = ? ORDER BY path");
    set_values(query, package);
    return connection_->read_generated(query);
  });
}

std::optional<Generated> GeneratedStore::generated_at(std::string_view path) const {
  return guarded(connection_->path, [&]() -> std::optional<Generated> {
    auto query = connection_->repeat("SELECT path, value FROM generated WHERE path = ?");
    set_values(*query, std::string(path));
    auto found = connection_->read_generated(*query);
    return found.empty() ? std::nullopt : std::optional(std::move(found.front()));
  });
}

std::vector<GeneratedChange> GeneratedStore::generated_changes_of(TxnId id) const {
  return guarded(connection_->path, [&] {
    std::vector<GeneratedChange> result;
    SQLite::Statement query(connection_->database,
                            "SELECT path, before, after FROM generated_changes WHERE txn = ? ORDER BY path");
    set_values(query, id);
    while (query.executeStep()) {
      GeneratedChange& change = result.emplace_back();
      change.path = query.getColumn(0).getString();
      const auto side = [&](int column, std::optional<Generated>& value) {
        if (!query.getColumn(column).isNull())
          value = generated_from(change.path, query.getColumn(column).getString(), connection_->path);
      };
      side(1, change.before);
      side(2, change.after);
      if (!change.before && !change.after)
        throw Error(ErrorCode::Invalid, fmt::format("transaction {} records a change of nothing", number(id)),
                    connection_->path);
    }
    return result;
  });
}

namespace {

std::map<std::string, std::string> pairs_in(const Connection& connection, const char* select) {
  return guarded(connection.path, [&] {
    std::map<std::string, std::string> result;
    SQLite::Statement query(connection.database, select);
    while (query.executeStep()) result.emplace(query.getColumn(0).getString(), query.getColumn(1).getString());
    return result;
  });
}

/// Of a transaction: what it is about, before, after.
template <typename Change>
std::vector<Change> changes_in(const Connection& connection, const char* select, TxnId id) {
  return guarded(connection.path, [&] {
    std::vector<Change> result;
    SQLite::Statement query(connection.database, select);
    set_values(query, id);
    while (query.executeStep())
      result.push_back(
          {query.getColumn(0).getString(), query.getColumn(1).getString(), query.getColumn(2).getString()});
    return result;
  });
}

}  // namespace

std::map<std::string, std::string> GeneratedStore::picks() const {
  return pairs_in(*connection_, "SELECT path, file FROM picks");
}

std::map<std::string, std::string> GeneratedStore::follows() const {
  return pairs_in(*connection_, "SELECT name, channel FROM follows");
}

std::map<std::string, std::map<std::string, std::string>> GeneratedStore::answers() const {
  return guarded(connection_->path, [&] {
    std::map<std::string, std::map<std::string, std::string>> result;
    SQLite::Statement query(connection_->database, "SELECT package, key, value FROM answers");
    while (query.executeStep())
      result[query.getColumn(0).getString()][query.getColumn(1).getString()] = query.getColumn(2).getString();
    return result;
  });
}

std::vector<PickChange> GeneratedStore::pick_changes_of(TxnId id) const {
  return changes_in<PickChange>(*connection_,
                                "SELECT path, before, after FROM pick_changes WHERE txn = ? ORDER BY path", id);
}

std::vector<FollowChange> GeneratedStore::follow_changes_of(TxnId id) const {
  return changes_in<FollowChange>(*connection_,
                                  "SELECT name, before, after FROM follow_changes WHERE txn = ? ORDER BY name", id);
}

namespace {

/// Columns: path, what, line, member.
LineChange read_line(SQLite::Statement& query, const std::string& where) {
  return {query.getColumn(0).getString(), kind_from(query.getColumn(1).getInt64(), LineChange::What::Leave, where),
          query.getColumn(2).getString(), query.getColumn(3).getString()};
}

}  // namespace

std::vector<LineChange> GeneratedStore::lines_of(TxnId id) const {
  return guarded(connection_->path, [&] {
    std::vector<LineChange> result;
    SQLite::Statement query(connection_->database,
                            "SELECT path, what, line, member FROM lines WHERE txn = ? ORDER BY seq");
    set_values(query, id);
    while (query.executeStep()) result.push_back(read_line(query, connection_->path));
    return result;
  });
}

std::vector<LineChange> GeneratedStore::all_lines() const {
  return guarded(connection_->path, [&] {
    std::vector<LineChange> result;
    SQLite::Statement query(connection_->database,
                            "SELECT path, what, line, member FROM lines JOIN ledger ON ledger.id = lines.txn"
                            " WHERE result = 'done' ORDER BY txn, seq");
    while (query.executeStep()) result.push_back(read_line(query, connection_->path));
    return result;
  });
}

std::vector<RunRecord> GeneratedStore::runs_of(TxnId id) const {
  return guarded(connection_->path, [&] {
    std::vector<RunRecord> result;
    SQLite::Statement query(
        connection_->database,
        "SELECT package, program, occasion, milliseconds, ended, output FROM runs WHERE txn = ? ORDER BY seq");
    set_values(query, id);
    while (query.executeStep())
      result.push_back({query.getColumn(0).getString(), query.getColumn(1).getString(), query.getColumn(2).getString(),
                        query.getColumn(3).getInt64(), query.getColumn(4).getString(), query.getColumn(5).getString()});
    return result;
  });
}

std::vector<GeneratedStore::LeftOut> GeneratedStore::left_out() const {
  return guarded(connection_->path, [&] {
    std::vector<LeftOut> result;
    SQLite::Statement query(connection_->database,
                            "SELECT max(txn), package, program, occasion, runs.ended FROM runs"
                            " JOIN ledger ON ledger.id = runs.txn WHERE result = 'done' GROUP BY package, program");
    while (query.executeStep()) {
      if (query.getColumn(4).getString() != kLeftOut) continue;
      LeftOut one{TxnId{query.getColumn(0).getInt64()}, {}};
      one.run.package = query.getColumn(1).getString();
      one.run.program = query.getColumn(2).getString();
      one.run.occasion = query.getColumn(3).getString();
      one.run.ended = kLeftOut;
      if (!connection_->undone_by(one.id)) result.push_back(std::move(one));
    }
    return result;
  });
}

TxnId GeneratedStore::last_run(const std::string& package, const std::string& program) const {
  return guarded(connection_->path, [&] {
    SQLite::Statement query(connection_->database,
                            "SELECT coalesce(max(txn), 0) FROM runs JOIN ledger ON ledger.id = runs.txn"
                            " WHERE package = ? AND program = ? AND result = 'done'");
    set_values(query, package, program);
    query.executeStep();
    return TxnId{query.getColumn(0).getInt64()};
  });
}

void Connection::put_generated(TxnId id, const std::vector<GeneratedChange>& changes) {
  if (changes.empty()) return;
  SQLite::Statement remember(database, "INSERT INTO generated_changes VALUES(?, ?, ?, ?)");
  SQLite::Statement drop(database, "DELETE FROM generated WHERE path = ?");
  SQLite::Statement put(database, "INSERT INTO generated VALUES(?, ?, ?)");
  const auto side = [](const std::optional<Generated>& one) {
    return one ? std::optional(text_of(*one)) : std::nullopt;
  };
  for (const GeneratedChange& one : changes) {
    HAMBREL_ASSERT(one.before || one.after, "a change has a side");
    state::run(remember, id, one.path, side(one.before), side(one.after));
    state::run(drop, one.path);
    if (one.after) state::run(put, one.path, one.after->package, text_of(*one.after));
  }
}

namespace {

/// What the administrator chose, by a key: the tables CHANGES and NOW.
template <typename Change>
void put_choices(SQLite::Database& database, TxnId id, const std::vector<Change>& all, std::string Change::*key,
                 const char* changes, const char* now, const char* column) {
  if (all.empty()) return;
  SQLite::Statement remember(database, fmt::format("INSERT INTO {} VALUES(?, ?, ?, ?)", changes));
  SQLite::Statement drop(database, fmt::format("DELETE FROM {} WHERE {} = ?", now, column));
  SQLite::Statement put(database, fmt::format("INSERT INTO {} VALUES(?, ?)", now));
  for (const Change& one : all) {
    HAMBREL_ASSERT(!(one.*key).empty(), "a choice is about something");
    run(remember, id, one.*key, one.before, one.after);
    run(drop, one.*key);
    if (!one.after.empty()) run(put, one.*key, one.after);
  }
}

}  // namespace

void Connection::put_picks(TxnId id, const std::vector<PickChange>& picks) {
  put_choices(database, id, picks, &PickChange::path, "pick_changes", "picks", "path");
}

void Connection::put_follows(TxnId id, const std::vector<FollowChange>& follows) {
  put_choices(database, id, follows, &FollowChange::name, "follow_changes", "follows", "name");
}

void Connection::put_answers(const std::vector<Answer>& answers) {
  if (answers.empty()) return;
  SQLite::Statement drop(database, "DELETE FROM answers WHERE package = ? AND key = ?");
  SQLite::Statement put(database, "INSERT INTO answers VALUES(?, ?, ?)");
  for (const Answer& one : answers) {
    HAMBREL_ASSERT(!one.package.empty() && !one.key.empty(), "an answer is to a question of a package");
    state::run(drop, one.package, one.key);
    if (one.value) state::run(put, one.package, one.key, *one.value);
  }
}

void Connection::put_lines(TxnId id, const std::vector<LineChange>& lines) {
  if (lines.empty()) return;
  SQLite::Statement put(database, "INSERT INTO lines VALUES(?, ?, ?, ?, ?, ?)");
  std::int64_t sequence = 0;
  for (const LineChange& one : lines)
    state::run(put, id, sequence++, one.path, static_cast<int>(one.what), one.line, one.member);
}

void Connection::put_runs(TxnId id, const std::vector<RunRecord>& runs) {
  if (runs.empty()) return;
  HAMBREL_ASSERT(number(id) > 0, "they ran in a transaction");
  SQLite::Statement put(database, "INSERT INTO runs VALUES(?, ?, ?, ?, ?, ?, ?, ?)");
  SQLite::Statement last(database, "SELECT coalesce(max(seq) + 1, 0) FROM runs WHERE txn = ?");
  last.bind(1, number(id));
  last.executeStep();
  std::int64_t sequence = last.getColumn(0).getInt64();
  for (const RunRecord& one : runs)
    state::run(put, id, sequence++, one.package, one.program, one.occasion, one.milliseconds, one.ended, one.output);
}

}  // namespace hambrel::state
