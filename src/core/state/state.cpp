#include "state/state.h"

#include <fmt/format.h>
#include <sqlite3.h>

#include <functional>
#include <span>

#include "base/assert.h"
#include "base/json.h"
#include "base/json_reader.h"
#include "base/text.h"
#include "model/manifest.h"
#include "state/schema.h"
#include "state/state_impl.h"

namespace hambrel::state {

namespace {

void migrate(SQLite::Database& database, const std::string& path, bool may_change,
             const std::function<void(int)>& after_step) {
  const int version = database.execAndGet("PRAGMA user_version").getInt();
  const int application = database.execAndGet("PRAGMA application_id").getInt();
  const int newest = static_cast<int>(kMigrations.size());
  if (version > 0 && application != kApplicationId)
    throw Error(ErrorCode::Invalid, "this database is not Hambrel's state", path,
                "move it away, or use another --root");
  if (version > newest)
    throw Error(ErrorCode::Invalid,
                fmt::format("the state has schema {}; this program supports up to {}", version, newest), path,
                "use the newer hambrel that wrote it");
  HAMBREL_ASSERT(version >= 0 && after_step != nullptr, "steps are numbered from 1");
  if (version == newest) return;
  if (!may_change)
    throw Error(ErrorCode::Invalid, fmt::format("the state has the older schema {}", version), path,
                "run `hambrel recover` as root once to bring it up to date");
  SQLite::Transaction step(database);
  for (int i = version; i < newest; ++i) {
    database.exec(std::string(kMigrations[static_cast<std::size_t>(i)]));
    after_step(i + 1);
  }
  database.exec(fmt::format("PRAGMA application_id = {}", kApplicationId));
  database.exec(fmt::format("PRAGMA user_version = {}", newest));
  HAMBREL_ASSERT(database.execAndGet("PRAGMA user_version").getInt() == newest, "it is up to date");
  step.commit();
}

}  // namespace

Connection::Connection(std::string shown, std::shared_ptr<Vfs> files, int flags)
    : path(std::move(shown)),
      vfs(std::move(files)),
      database(vfs ? Vfs::kDatabase : ":memory:", flags, 0, vfs ? vfs->name().c_str() : nullptr) {
  database.exec("PRAGMA page_size = 8192");  // of a new database: lists of files are large values
  database.exec("PRAGMA temp_store = MEMORY");
  database.exec("PRAGMA foreign_keys = ON");
  database.exec("PRAGMA synchronous = EXTRA");
  database.exec("PRAGMA cache_size = -8192");  // KiB: the rows of a large package need not go to the disk in between
}

namespace {

std::unique_ptr<Connection> opened(os::FileSystem& root, const std::string& path, Access access) {
  const std::string shown = root.shown(path);
  const bool changes = access == Access::Change;
  const auto vfs =
      changes ? std::make_shared<Vfs>(root, path) : std::make_shared<Vfs>(static_cast<os::FileReader&>(root), path);
  return guarded(shown, [&] {
    // One thread uses a State. Who looks may take back, in memory, what a power cut left half done.
    const int flags = SQLite::OPEN_NOMUTEX | SQLite::OPEN_READWRITE | (changes ? SQLite::OPEN_CREATE : 0);
    try {
      auto connection = std::make_unique<Connection>(shown, vfs, flags);
      if (!changes) connection->database.exec("PRAGMA query_only = ON");
      migrate(connection->database, shown, changes, [&](int step) {
        if (step == kListsFrom) connection->lists_from_rows();
        if (step == kConfigsFrom) connection->note_configuration();
      });
      return connection;
    } catch (const SQLite::Exception&) {
      if (vfs->problem()) throw Error(*vfs->problem());
      throw;
    }
  });
}

std::unique_ptr<Connection> opened_in_memory() {
  return guarded("memory", [&] {
    auto connection = std::make_unique<Connection>("memory", nullptr, SQLite::OPEN_NOMUTEX | SQLite::OPEN_READWRITE);
    migrate(connection->database, "memory", true, [](int) {});
    return connection;
  });
}

}  // namespace

ConnectionOwner::ConnectionOwner(std::unique_ptr<Connection> connection) : connection_(std::move(connection)) {}
ConnectionOwner::~ConnectionOwner() = default;

State::State(std::unique_ptr<Connection> connection)
    : ConnectionOwner(std::move(connection)),
      PackageStore(*connection_),
      PathStore(*connection_),
      LedgerStore(*connection_),
      JournalStore(*connection_),
      AtticStore(*connection_),
      CheckpointStore(*connection_),
      GeneratedStore(*connection_),
      PreparedStore(*connection_) {}

State::State(os::FileSystem& root, const std::string& path, Access access) : State(opened(root, path, access)) {}
State::State() : State(opened_in_memory()) {}
State::~State() = default;

State::ReadTransaction::ReadTransaction(const State& state)
    : state_(state), is_within_(sqlite3_get_autocommit(state.connection_->database.getHandle()) == 0) {
  if (!is_within_) guarded(state.connection_->path, [&] { state.connection_->database.exec("BEGIN"); });
}

State::ReadTransaction::~ReadTransaction() {
  if (is_within_) return;
  for (auto* query :
       {&state_.connection_->slots_query, &state_.connection_->more_query, &state_.connection_->package_query})
    if (*query) (*query)->tryReset();
  state_.connection_->database.tryExec("ROLLBACK");  // it only looked
}

std::string hold_text(const std::optional<Hold>& hold) {
  if (!hold) return {};
  return canonical({{"since", hold->since}, {"until", hold->until}, {"reason", hold->reason}, {"user", hold->user}});
}

std::optional<Hold> hold_from(const std::string& text, const std::string& where) {
  if (text.empty()) return std::nullopt;
  const Json whole = parse_json(text, where);
  const JsonObject object(whole, where);
  return Hold{object.signed_number("since"), object.signed_number("until"), object.text("reason"), object.text("user")};
}

std::string architecture_from(std::string written) { return written == "any" ? kIndependent : std::move(written); }

std::string architecture_in(const std::string& arch, int chain) {
  return chain < 3 && arch == kIndependent ? "any" : arch;
}

StatePackage Connection::read_package(SQLite::Statement& row) const {
  StatePackage result;
  result.row = row.getColumn(0).getInt64();
  result.package = package_from_json(reader.parse(row.getColumn(1).getString(), path));
  result.package.arch = architecture_from(std::move(result.package.arch));
  result.reason = reason_from(row.getColumn(2).getString()).value_or(Reason::Wanted);
  result.origin = row.getColumn(3).getString();
  result.digest = Digest::from_hex(row.getColumn(4).getString()).value_or(Digest{});
  result.time = row.getColumn(5).getInt64();
  result.hold = hold_from(row.getColumn(6).getString(), path);
  result.shelved = row.getColumn(7).getInt() != 0;
  return result;
}

std::vector<StatePackage> PackageStore::installed() const {
  return guarded(connection_->path, [&] {
    std::vector<StatePackage> result;
    SQLite::Statement query(
        connection_->database,
        fmt::format("SELECT {} FROM packages WHERE state = 'installed' ORDER BY name, version", kPackageColumns));
    while (query.executeStep()) result.push_back(connection_->read_package(query));
    return result;
  });
}

std::vector<StatePackage> PackageStore::shelved() const {
  return guarded(connection_->path, [&] {
    std::vector<StatePackage> result;
    SQLite::Statement query(
        connection_->database,
        fmt::format("SELECT {} FROM packages WHERE shelved = 1 ORDER BY name, version", kPackageColumns));
    while (query.executeStep()) result.push_back(connection_->read_package(query));
    return result;
  });
}

std::vector<StatePackage> PackageStore::acting() const {
  return guarded(connection_->path, [&] {
    std::vector<StatePackage> result;
    SQLite::Statement query(
        connection_->database,
        fmt::format("SELECT {} FROM packages WHERE state = 'installed' AND acts = 1 ORDER BY name", kPackageColumns));
    while (query.executeStep()) result.push_back(connection_->read_package(query));
    return result;
  });
}

std::vector<Replaced> PackageStore::replaced() const { return replaced("TRUE"); }

std::vector<Replaced> PackageStore::replaced_with_configuration() const {
  const bool is_any = guarded(connection_->path, [&] {
    return connection_->database
               .execAndGet(
                   "SELECT EXISTS(SELECT 1 FROM packages WHERE state = 'attic' AND shelved = 0 AND configs IS NOT 0)")
               .getInt() != 0;
  });
  return is_any ? replaced("configs IS NOT 0") : std::vector<Replaced>();
}

std::vector<Replaced> PackageStore::replaced(const char* condition) const {
  return guarded(connection_->path, [&] {
    std::vector<Replaced> result;
    SQLite::Statement query(connection_->database,
                            fmt::format("SELECT {}, txn FROM packages JOIN (SELECT before_package, max(ledger) AS txn"
                                        " FROM changes WHERE before_package IS NOT after_package GROUP BY 1)"
                                        " ON before_package = packages.id WHERE state = 'attic' AND shelved = 0"
                                        " AND {} AND EXISTS(SELECT 1 FROM lists WHERE package = packages.id)"
                                        " ORDER BY txn DESC, packages.id DESC",
                                        kPackageColumns, condition));
    while (query.executeStep())
      result.push_back({connection_->read_package(query), TxnId{query.getColumn("txn").getInt64()}});
    return result;
  });
}

StatePackage PackageStore::package(std::int64_t row) const {
  return guarded(connection_->path, [&] { return connection_->package_of(row); });
}

StatePackage Connection::package_of(std::int64_t row) {
  if (!package_query)
    package_query.emplace(database, fmt::format("SELECT {} FROM packages WHERE id = ?", kPackageColumns));
  ScopedStatement query(*package_query);  // what can't be read leaves it fit for the next one
  set_values(*query, row);
  if (!query->executeStep())
    throw Error(ErrorCode::Untrusted, fmt::format("the state has no package row {}", row), path,
                "`hambrel repair --rebuild` recreates it");
  return read_package(*query);
}

std::optional<Journal> JournalStore::journal() const {
  return guarded(connection_->path, [&]() -> std::optional<Journal> {
    SQLite::Statement query(connection_->database, "SELECT txn, directory, kind, command, user, started FROM journal");
    if (!query.executeStep()) return std::nullopt;
    Journal journal;
    journal.id = TxnId{query.getColumn(0).getInt64()};
    journal.directory = query.getColumn(1).getString();
    journal.kind = query.getColumn(2).getString();
    journal.command = query.getColumn(3).getString();
    journal.user = query.getColumn(4).getString();
    journal.started = query.getColumn(5).getInt64();
    if (number(journal.id) <= 0 || journal.directory.empty())
      throw Error(ErrorCode::Untrusted, "the journal names no transaction", connection_->path,
                  "`hambrel repair --rebuild` recreates it");
    require_clean(journal.directory, connection_->path);
    const bool is_told =
        connection_->database
            .execAndGet(fmt::format("SELECT EXISTS(SELECT 1 FROM ledger WHERE id >= {})", number(journal.id)))
            .getInt() != 0;
    if (is_told)
      throw Error(ErrorCode::Untrusted, "the journal is of a transaction that the ledger has already",
                  connection_->path, "`hambrel repair --rebuild` recreates it");
    journal.moves = moves_of(journal.id);
    journal.times = times_of(journal.id);
    return journal;
  });
}

std::vector<Move> JournalStore::moves_of(TxnId id) const {
  return guarded(connection_->path, [&] {
    std::vector<Move> result;
    SQLite::Statement count(connection_->database, "SELECT count(*) FROM moves WHERE txn = ?");
    set_values(count, id);
    if (count.executeStep()) result.reserve(static_cast<std::size_t>(count.getColumn(0).getInt64()));
    SQLite::Statement query(connection_->database,
                            "SELECT kind, path, place, inode_new, inode_old, mode_before, uid_before, gid_before,"
                            " mode_after, uid_after, gid_after, home FROM moves WHERE txn = ? ORDER BY seq");
    set_values(query, id);
    const auto text_at = [&](int column) {
      const auto value = query.getColumn(column);
      return std::string_view(static_cast<const char*>(value.getBlob()), static_cast<std::size_t>(value.getBytes()));
    };
    SharedText home;
    while (query.executeStep()) {
      Move move;
      move.kind = kind_from(query.getColumn(0).getInt64(), MoveKind::Attributes, connection_->path);
      move.path = text_at(1);
      move.place = text_at(2);
      move.inode_new = static_cast<std::uint64_t>(query.getColumn(3).getInt64());
      move.inode_old = static_cast<std::uint64_t>(query.getColumn(4).getInt64());
      const DirectoryAttributes before{query.getColumn(5).getUInt(), query.getColumn(6).getUInt(),
                                       query.getColumn(7).getUInt()};
      const DirectoryAttributes after{query.getColumn(8).getUInt(), query.getColumn(9).getUInt(),
                                      query.getColumn(10).getUInt()};
      if (before != DirectoryAttributes{} || after != DirectoryAttributes{})
        move.attributes = AttributesChange{before, after};
      if (const std::string_view text = text_at(11); home.view() != text) {
        require_clean(text, connection_->path);
        home = text;
      }
      move.home = home;
      if (move.path.empty() || move.home.empty() || (move.place.empty() && move.kind != MoveKind::Attributes))
        throw Error(ErrorCode::Invalid, fmt::format("a move of transaction {} leads nowhere", number(id)),
                    connection_->path);
      require_clean(move.path.view(), connection_->path);
      require_clean(move.place.view(), connection_->path);
      result.push_back(std::move(move));
    }
    SQLite::Statement times(connection_->database, "SELECT times FROM put_away WHERE txn = ?");
    set_values(times, id);
    if (!times.executeStep()) return result;
    constexpr std::size_t kOne = 16;  // bytes: of each move, seconds and nanoseconds
    const auto column = times.getColumn(0);
    const auto bytes =
        std::span(static_cast<const std::uint8_t*>(column.getBlob()), static_cast<std::size_t>(column.getBytes()));
    const auto value_at = [&](std::size_t at) {
      std::uint64_t value = 0;
      for (unsigned i = 0; i < 8; ++i) value |= static_cast<std::uint64_t>(bytes[at + i]) << (8 * i);
      return static_cast<std::int64_t>(value);
    };
    for (std::size_t i = 0; i < result.size() && (i + 1) * kOne <= bytes.size() && bytes.size() == result.size() * kOne;
         ++i) {
      result[i].put_away_seconds = value_at(i * kOne);
      result[i].put_away_nanoseconds = value_at(i * kOne + 8);
    }
    return result;
  });
}

std::vector<DirectoryTime> JournalStore::times_of(TxnId id) const {
  return guarded(connection_->path, [&] {
    std::vector<DirectoryTime> result;
    SQLite::Statement query(
        connection_->database,
        "SELECT path, before_s, before_ns, after_s, after_ns FROM times WHERE txn = ? ORDER BY path");
    set_values(query, id);
    while (query.executeStep()) {
      result.push_back({query.getColumn(0).getString(), query.getColumn(1).getInt64(), query.getColumn(2).getInt64(),
                        query.getColumn(3).getInt64(), query.getColumn(4).getInt64()});
      require_clean(result.back().path, connection_->path);
    }
    return result;
  });
}

void JournalStore::write_journal(const Journal& journal, const Await& await) {
  guarded(connection_->path, [&] {
    HAMBREL_ASSERT(number(journal.id) > 0 && !journal.directory.empty(), "a journal names its transaction");
    HAMBREL_ASSERT(!connection_->journal_id(), "one transaction at a time");
    const bool held = journal.moves.size() <= Connection::kMostHeld;
    if (await && !held) await();
    SQLite::Transaction step(connection_->database);
    SQLite::Statement head(connection_->database, "INSERT INTO journal VALUES(1, ?, ?, ?, ?, ?, ?)");
    run(head, journal.id, journal.directory, journal.kind, journal.command, journal.user, journal.started);
    SQLite::Statement insert(connection_->database,
                             "INSERT INTO moves VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
    std::int64_t sequence = 0;
    for (const Move& move : journal.moves) {
      const auto& [before, after] = move.attributes_change();
      run(insert, journal.id, sequence++, static_cast<int>(move.kind), move.path, move.place, move.inode_new,
          move.inode_old, before.mode, before.uid, before.gid, after.mode, after.uid, after.gid, move.home);
    }
    SQLite::Statement times(connection_->database, "INSERT INTO times VALUES(?, ?, ?, ?, 0, 0)");
    for (const DirectoryTime& time : journal.times)
      run(times, journal.id, time.path, time.before_seconds, time.before_nanoseconds);
    HAMBREL_ASSERT(connection_->journal_id() == journal.id, "the journal stands");
    HAMBREL_ASSERT(static_cast<std::size_t>(sequence) == journal.moves.size(), "with every move");
    if (await && held) await();
    step.commit();
  });
}

std::string identity_of(os::FileReader& root, const std::string& path) {
  constexpr std::size_t kHead = 100, kChangeCounter = 24;
  const auto info = root.stat(path);
  if (!info || info->type != os::FileType::Regular || info->links != 1 || info->size < kHead ||
      root.stat(path + "-journal"))
    return {};
  const std::string head = root.open_itself(path)->read_exactly(0, kHead, root.shown(path));
  return fmt::format("{}:{}:{}:{}.{:09}:{}", info->device, info->inode, info->size, info->mtime_seconds,
                     info->mtime_nanoseconds, to_hex(std::as_bytes(std::span(head).subspan(kChangeCounter, 4))));
}

std::optional<TxnId> Connection::journal_id() {
  ScopedStatement query = repeat("SELECT txn FROM journal");
  return query->executeStep() ? std::optional(TxnId{query->getColumn(0).getInt64()}) : std::nullopt;
}

void Connection::end_journal() {
  const int ended = database.exec("DELETE FROM journal");
  HAMBREL_ASSERT(ended == 1, "one transaction at a time, and it was open");
}

}  // namespace hambrel::state
