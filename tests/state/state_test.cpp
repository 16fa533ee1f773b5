#include "state/state.h"

#include "state/schema.h"

#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sqlite3.h>

#include <algorithm>
#include <map>
#include <random>

#include "base/error.h"
#include "support/program.h"

namespace hambrel::state {

namespace {

StatePackage sample(const std::string& name, const std::string& version) {
  StatePackage package;
  package.package.name = name;
  package.package.version = Version::parse(version).value();
  package.package.arch = "independent";
  package.origin = "skerry-base/stable";
  return package;
}

FileEntry entry(const std::string& path, EntryType type = EntryType::File) {
  FileEntry file;
  file.path = path;
  file.type = type;
  file.mode = 0644;
  file.size = 3;
  file.digest = sha256(path);
  file.attributes = {{"user.note", std::string("\0x", 2)}};
  return file;
}

PackageChange installs(const std::string& name, const std::string& version, std::vector<FileEntry> files) {
  PackageChange change;
  change.name = name;
  change.after = sample(name, version);
  change.files = FileList::of(files);
  return change;
}

LedgerEntry ledger_entry(const State& state) {
  LedgerEntry entry;
  entry.id = state.next_id();
  entry.kind = "install";
  entry.user = "ada";
  entry.command = "hambrel install x";
  entry.result = "done";
  return entry;
}

void execute(const std::string& path, const std::string& sql) {
  sqlite3* database = nullptr;
  sqlite3_open(path.c_str(), &database);
  sqlite3_exec(database, sql.c_str(), nullptr, nullptr, nullptr);
  sqlite3_close(database);
}

}  // namespace

class StateTest : public testing::Test {
 protected:
  static constexpr const char* kName = "state.sqlite";
  test::TempDir directory;
  std::string path = directory / kName;
  std::unique_ptr<os::FileSystem> fs = os::open_file_system(directory.text());
};

TEST_F(StateTest, PackagesAndFilesComeBackAsTheyWentIn) {
  State state(*fs, kName, Access::Change);
  state.record(ledger_entry(state),
               {installs("desk", "1-1", {entry("etc", EntryType::Directory), entry("etc/desk.toml")})});
  const State looking(*fs, kName, Access::Look);
  ASSERT_EQ(looking.installed().size(), 1U);
  const StatePackage desk = looking.installed()[0];
  EXPECT_EQ(desk.package.title(), "desk 1-1");
  const auto files = looking.files_of(desk.row)->entries();
  ASSERT_EQ(files.size(), 2U);
  EXPECT_EQ(files[1].path, "etc/desk.toml");
  EXPECT_EQ(files[1].digest, sha256("etc/desk.toml"));
  EXPECT_EQ(files[1].attributes.at("user.note"), std::string("\0x", 2));
  EXPECT_EQ(looking.owners_of("etc/desk.toml").at(0).package_name, "desk");
  EXPECT_TRUE(looking.owners_of("etc/other").empty());
}

TEST_F(StateTest, AnUpgradeKeepsTheOldRowForTheAttic) {
  State state(*fs, kName, Access::Change);
  state.record(ledger_entry(state), {installs("desk", "1-1", {entry("a")})});
  PackageChange upgrade = installs("desk", "2-1", {entry("b")});
  upgrade.before = state.installed()[0];
  upgrade.before_row = upgrade.before->row;
  state.record(ledger_entry(state), {upgrade});
  ASSERT_EQ(state.installed().size(), 1U);
  EXPECT_EQ(state.installed()[0].package.title(), "desk 2-1");
  EXPECT_TRUE(state.owners_of("a").empty());
  const PackageChange told = state.changes_of(TxnId{2}).at(0);
  EXPECT_EQ(told.before->package.title(), "desk 1-1");
  EXPECT_EQ(state.files_of(*told.before_row)->path(0), "a");
}

TEST_F(StateTest, AListThatSomebodyHoldsIsNotReadAgain) {
  State state(*fs, kName, Access::Change);
  const std::string long_name(2000, 'x');
  for (const char* name : {"a", "b", "c"}) {  // 8 MiB each: there is room for less than three of them
    std::vector<FileEntry> files;
    for (int i = 1000; i < 5000; ++i) files.push_back(entry(fmt::format("{}/{}{}", name, i, long_name)));
    state.record(ledger_entry(state), {installs(name, "1", files)});
  }
  const auto held = state.files_of(1);
  const std::string* const bytes = &held->bytes();
  state.files_of(2);
  state.files_of(3);
  EXPECT_EQ(state.files_of(1), held);
  EXPECT_EQ(&state.files_of(1)->bytes(), bytes);
}

TEST_F(StateTest, TheJournalStandsUntilItsTransactionIsClosed) {
  State state(*fs, kName, Access::Change);
  Journal journal;
  journal.id = state.next_id();
  journal.directory = "stage/1";
  journal.moves = {{"etc/x", "tree/etc/x", "boot/.hambrel", 11, 12, AttributesChange{{}, {0755, 1, 2}}}};
  journal.moves[0].kind = MoveKind::Exchange;
  journal.times = {{"etc", 5, 6, 0, 0}};
  state.write_journal(journal);
  EXPECT_THROW(state.write_journal(journal), Error);
  const auto standing = State(*fs, kName, Access::Look).journal();
  ASSERT_TRUE(standing);
  EXPECT_EQ(standing->moves.at(0).inode_old, 12U);
  EXPECT_EQ(standing->moves.at(0).kind, MoveKind::Exchange);
  EXPECT_EQ(standing->moves.at(0).attributes_change().after, (DirectoryAttributes{0755, 1, 2}));
  LedgerEntry back = ledger_entry(state);
  back.id = journal.id;
  back.result = "taken back";
  state.close_taken_back(back);
  EXPECT_FALSE(state.journal());
  EXPECT_TRUE(state.moves_of(journal.id).empty());
  EXPECT_EQ(number(state.next_id()), 2);
}

TEST_F(StateTest, AJournalThatNamesNoTransactionIsRefused) {
  Journal journal;
  {
    State state(*fs, kName, Access::Change);
    journal.id = state.next_id();
    journal.directory = "stage/1";
    state.write_journal(journal);
  }
  for (const char* damage : {"directory = ''", "txn = 0"}) {
    execute(path, std::string("UPDATE journal SET ") + damage);
    EXPECT_THAT(test::refusal([&] { State(*fs, kName, Access::Look).journal(); }),
                testing::HasSubstr("the journal names no transaction"))
        << damage;
    execute(path, "UPDATE journal SET directory = 'stage/1', txn = 1");
  }
  EXPECT_EQ(State(*fs, kName, Access::Look).journal()->directory, "stage/1");
  execute(path, "UPDATE journal SET txn = 2");
  {
    State state(*fs, kName, Access::Change);
    LedgerEntry entry = ledger_entry(state);
    entry.id = TxnId{1};
    state.record(entry, {});
  }
  EXPECT_TRUE(State(*fs, kName, Access::Look).journal());
  execute(path, "UPDATE journal SET txn = 1");
  EXPECT_THAT(test::refusal([&] { State(*fs, kName, Access::Look).journal(); }),
              testing::HasSubstr("the journal is of a transaction that the ledger has already"));
}

TEST_F(StateTest, OthersSeeWhatWasWhileItWaitsForTheDisk) {
  for (const std::size_t count : {10U, 30'000U, 200'000U}) {
    const std::string own = fmt::format("{}.sqlite", count);
    State state(*fs, own, Access::Change);
    std::vector<FileEntry> files;
    Journal journal;
    journal.id = state.next_id();
    journal.directory = "stage/1";
    for (std::size_t i = 0; i < count; ++i) {
      files.push_back(entry(fmt::format("usr/share/some-package/a-file-with-a-name-{:06}", i)));
      journal.moves.push_back(
          {files.back().path, fmt::format("tree/{}/{}", i / 512, i % 512), "var/lib/hambrel", 1 + i, 0});
    }
    int waited = 0;
    const auto look = [&] {
      const State looking(*fs, own, Access::Look);
      EXPECT_EQ(looking.journal().has_value(), waited > 0);
      EXPECT_TRUE(looking.installed().empty());
      EXPECT_EQ(number(looking.last_done()), 0);
      ++waited;
    };
    state.write_journal(journal, look);
    LedgerEntry done = ledger_entry(state);
    done.id = journal.id;
    const auto fails = [] { throw Error(ErrorCode::Io, "the disk is gone"); };
    EXPECT_THROW(state.commit(done, {installs("desk", "1", files)}, {}, fails), Error);
    EXPECT_TRUE(state.installed().empty());
    state.commit(done, {installs("desk", "1", files)}, {}, look);
    EXPECT_EQ(waited, 2) << count;
    EXPECT_EQ(state.installed().size(), 1U);
    EXPECT_FALSE(state.journal());
  }
}

TEST_F(StateTest, TheLedgerIsAChain) {
  State state(*fs, kName, Access::Change);
  for (int i = 0; i < 3; ++i) state.record(ledger_entry(state), {});
  const auto entries = state.ledger(10);
  ASSERT_EQ(entries.size(), 3U);
  EXPECT_EQ(entries[2].previous, Digest{});
  for (const LedgerEntry& one : entries) EXPECT_EQ(one.digest, chain_digest(one, state.changes_told(one.id)));
  EXPECT_EQ(entries[0].previous, entries[1].digest);
  EXPECT_EQ(entries[1].previous, entries[2].digest);
  LedgerEntry forged = entries[1];
  forged.command = "hambrel remove everything";
  EXPECT_NE(chain_digest(forged, state.changes_told(forged.id)), forged.digest);
}

TEST_F(StateTest, OtherSchemasAndOtherFilesAreRefusedAndLeftAlone) {
  const auto problem = [&](Access access) {
    try {
      State state(*fs, kName, access);
    } catch (const Error& error) {
      return error.problem();
    }
    return std::string("opened");
  };
  execute(path, "CREATE TABLE t(x); PRAGMA user_version = 3");
  EXPECT_EQ(problem(Access::Change), "this database is not Hambrel's state");
  execute(path, "PRAGMA application_id = 0x48414D42; PRAGMA user_version = 99");
  EXPECT_EQ(problem(Access::Change), "the state has schema 99; this program supports up to 13");
  test::write_file(
      path,
      "this is not a database at all, but long enough to be looked at as one by its first hundred bytes ........");
  EXPECT_EQ(problem(Access::Look), "the state database is damaged: file is not a database");
}

TEST_F(StateTest, AStateOfTheFirstSchemaKeepsItsPackages) {
  execute(path, std::string(kMigrations[0]) +
                    "PRAGMA application_id = 0x48414D42; PRAGMA user_version = 1;"
                    "INSERT INTO packages VALUES(1, 'lamp', '1-1', 'any', '{\"arch\":\"independent\",\"file_count\":0,"
                    "\"installed_size\":0,\"name\":\"lamp\",\"version\":\"1-1\"}', 'wanted', 'o', '', 5, 'installed')");
  EXPECT_THROW(State(*fs, kName, Access::Look), Error);
  const State state(*fs, kName, Access::Change);
  ASSERT_EQ(state.installed().size(), 1U);
  EXPECT_EQ(state.installed()[0].package.title(), "lamp 1-1");
  EXPECT_FALSE(state.installed()[0].hold);
}

TEST_F(StateTest, RowsOfAnOlderSchemaBecomeListsAndAnIndex) {
  std::string old;
  for (std::size_t i = 0; i < 3; ++i) old += kMigrations[i];
  const auto package = [](int row, const char* name, const char* state) {
    return fmt::format(
        "INSERT INTO packages VALUES({}, '{}', '{}-1', 'any', '{{\"arch\":\"independent\",\"file_count\":0,"
        "\"installed_size\":0,\"name\":\"{}\",\"version\":\"1-1\"}}', 'wanted', 'o', '', 5, '{}', '');",
        row, name, row, name, state);
  };
  execute(path, old + "PRAGMA application_id = 0x48414D42; PRAGMA user_version = 3;" + package(1, "lamp", "attic") +
                    package(2, "lamp", "installed") + package(3, "oil", "installed") +
                    "INSERT INTO directories VALUES(1, ''), (2, 'etc');"
                    "INSERT INTO files VALUES(1, 2, 'old', 0, 420, 'root', 'root', 7, 3, x'00', '', '', 0),"
                    "(2, 1, 'etc', 1, 493, 'root', 'root', 7, 0, NULL, '', '', 0),"
                    "(2, 2, 'lamp', 0, 420, 'ada', 'root', 7, 3, zeroblob(32), '', '{\"user.n\":\"eA==\"}', 1),"
                    "(3, 1, 'etc', 1, 493, 'root', 'root', 7, 0, NULL, '', '', 0);");
  const State state(*fs, kName, Access::Change);
  const auto owners = state.owners_of("etc");
  ASSERT_EQ(owners.size(), 2U);
  EXPECT_EQ(owners[1].package_name, "oil");
  const OwnedFile lamp = state.owners_of("etc/lamp").at(0);
  EXPECT_EQ(lamp.entry.user + lamp.entry.attributes.at("user.n"), "adax");
  EXPECT_TRUE(lamp.entry.config);
  EXPECT_TRUE(state.owners_of("etc/old").empty());
  EXPECT_EQ(state.files_of(1)->path(0), "etc/old");
  EXPECT_EQ(state.configuration_of(2).at(0).path, "etc/lamp");
  EXPECT_TRUE(state.configuration_of(1).empty() && state.configuration_of(3).empty());
}

TEST_F(StateTest, TheIndexFollowsEveryChangeAsAPlainMapWould) {
  std::mt19937 random(7);
  State state(*fs, kName, Access::Change);
  for (int round = 0; round < 100; ++round) {
    std::vector<PackageChange> changes;  // of one package or several
    const int first = static_cast<int>(random() % 4), count = 1 + static_cast<int>(random() % 4);
    const bool nothing_is_replaced = random() % 3 == 0;
    for (int number = 0; number < count; ++number) {
      const std::string name = fmt::format("p{}", (first + number) % 4);
      std::vector<FileEntry> files{entry("usr", EntryType::Directory)};
      for (int i = 0; i < 6; ++i)
        if (random() % 2 == 0) files.push_back(entry(fmt::format("usr/{}", i), EntryType::Directory));
      // so many at times that most of the index goes with them
      const int many = random() % 3 == 0 ? 1100 : 0;
      for (int i = 0; i < many; ++i)
        files.push_back(entry(fmt::format("usr/0/{}-{}", random() % 2 == 0 ? name : "any", i)));
      PackageChange& change = changes.emplace_back(installs(name, fmt::format("{}", round), files));
      for (const StatePackage& one : state.installed())
        if (one.package.name == name) {
          change.before = one;
          change.before_row = one.row;
        }
      if (change.before && (nothing_is_replaced || random() % 3 == 0)) change.after.reset();
    }
    state.record(ledger_entry(state), changes);
    std::map<std::string, std::vector<std::string>> expected;
    for (const StatePackage& one : state.installed())
      for (const FileEntry& file : state.files_of(one.row)->entries()) expected[file.path].push_back(one.package.name);
    for (const char* asked : {"usr", "usr/0", "usr/1", "usr/2", "usr/3", "usr/4", "usr/5"}) {
      std::vector<std::string> owners;
      for (const OwnedFile& one : state.owners_of(asked)) owners.push_back(one.package_name);
      ASSERT_EQ(owners, expected[asked]) << asked << " in round " << round;
      ASSERT_EQ(state.may_be_owned(asked), !owners.empty());
    }
    for (const StatePackage& one : state.installed())
      for (const std::size_t shared : state.shared_files_of(one.row))
        ASSERT_GT(expected[std::string(state.files_of(one.row)->path(shared))].size(), 1U);
    std::set<std::int64_t> rows;
    std::set<std::string> names;
    for (const StatePackage& one : state.installed()) {
      if (random() % 3 == 0) continue;
      rows.insert(one.row);
      names.insert(one.package.name);
    }
    const auto alone = state.paths_of_one(rows);
    for (const auto& [at, owners] : expected)
      ASSERT_EQ(alone.contains(at),
                !owners.empty() && std::includes(names.begin(), names.end(), owners.begin(), owners.end()))
          << at;
    ASSERT_FALSE(alone.contains("usr/elsewhere"));
  }
}

TEST(FileListTest, DamagedBytesAreRefusedOrReadWithinThemselves) {
  FileEntry link = entry("b/link", EntryType::Symlink);
  link.target = "../a";
  link.user = "ada";
  const std::string whole =
      FileList::of(std::vector<FileEntry>{entry("a"), entry("b", EntryType::Directory), link}).bytes();
  EXPECT_EQ(FileList(whole, "x").find("b/link"), 2U);
  EXPECT_EQ(FileList(whole, "x").find("b/l"), std::nullopt);
  EXPECT_TRUE(FileList(whole, "x").same(2, link));
  for (std::size_t at = 0; at < whole.size(); ++at)
    for (const std::string& damaged : {whole.substr(0, at), std::string(whole).replace(at, 1, "\xff")}) {
      try {
        const FileList list(damaged, "x");
        if (list.size() < 10) {
          list.entries();
          list.find("b");
        }
      } catch (const Error&) {
      }
    }
}

TEST_F(StateTest, AnOlderSchemaIsMigratedOnlyByAChange) {
  execute(path, "PRAGMA user_version = 0; CREATE TABLE later(x); DROP TABLE later");
  EXPECT_THROW(State(*fs, kName, Access::Look), Error);
  EXPECT_NO_THROW(State(*fs, kName, Access::Change));
  EXPECT_NO_THROW(State(*fs, kName, Access::Look));
}

}  // namespace hambrel::state
