// The record and the attic are believed only as far as they can be checked.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sqlite3.h>

#include <fstream>
#include <random>

#include "base/digest.h"
#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

namespace {

class Ledger : public testing::Test {
 protected:
  Ledger() {
    station.pack("lib", "1-1", "", {{"usr/lib/l", "one"}, {"usr/lib/same", "same"}});
    station.pack("lib", "2-1", "", {{"usr/lib/l", "two"}, {"usr/lib/same", "same"}});
    station.open();
    EXPECT_EQ(station.hambrel({"install", "lib=1", "-y"}).code, 0);
    EXPECT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  }
  void execute(const std::string& sql) const {
    sqlite3* database = nullptr;
    ASSERT_EQ(sqlite3_open((station.root() / "var/lib/hambrel/state.sqlite").c_str(), &database), SQLITE_OK);
    EXPECT_EQ(sqlite3_exec(database, sql.c_str(), nullptr, nullptr, nullptr), SQLITE_OK) << sqlite3_errmsg(database);
    sqlite3_close(database);
  }
  /// Does the schema let it be done?
  bool try_to(const std::string& sql) const {
    sqlite3* database = nullptr;
    EXPECT_EQ(sqlite3_open((station.root() / "var/lib/hambrel/state.sqlite").c_str(), &database), SQLITE_OK);
    const bool done = sqlite3_exec(database, sql.c_str(), nullptr, nullptr, nullptr) == SQLITE_OK;
    sqlite3_close(database);
    return done;
  }
  /// Every table of the state, with every column.
  std::vector<std::pair<std::string, std::string>> columns() const {
    std::vector<std::pair<std::string, std::string>> all;
    sqlite3* database = nullptr;
    EXPECT_EQ(sqlite3_open((station.root() / "var/lib/hambrel/state.sqlite").c_str(), &database), SQLITE_OK);
    const auto add = [](void* to, int, char** values, char**) {
      static_cast<std::vector<std::pair<std::string, std::string>>*>(to)->emplace_back(values[0], values[1]);
      return 0;
    };
    EXPECT_EQ(
        sqlite3_exec(database,
                     "SELECT t.name, c.name FROM sqlite_master t, pragma_table_info(t.name) c WHERE t.type = 'table'",
                     add, &all, nullptr),
        SQLITE_OK);
    sqlite3_close(database);
    return all;
  }
  /// The one file in the attic of transaction 2.
  fs::path kept() const {
    for (const auto& one : fs::recursive_directory_iterator(station.root() / "var/lib/hambrel/attic/2"))
      if (one.is_regular_file()) return one.path();
    return {};
  }
  Station station;
};

}  // namespace

TEST_F(Ledger, NoFactThatIsReliedOnCanBeAlteredUnseen) {
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  const fs::path state = station.root() / "var/lib/hambrel/state.sqlite";
  const std::string sound = read_file(state);
  for (const std::string sql :
       {"UPDATE changes SET after_reason = 'pulled-in' WHERE ledger = 2", "DELETE FROM changes WHERE ledger = 1",
        "UPDATE packages SET digest = '00' WHERE version = '2-1'", "UPDATE packages SET origin = 'elsewhere/stable'",
        "UPDATE packages SET manifest = replace(manifest, '\"lib\"', '\"lab\"')",
        "UPDATE lists SET list = x'00' || substr(list, 2)", "UPDATE moves SET path = 'etc/shadow' WHERE txn = 2",
        "UPDATE put_away SET times = zeroblob(length(times))", "UPDATE ledger SET plan = '{}' WHERE id = 2",
        "UPDATE ledger SET chain = 1 WHERE id = 2",
        "DELETE FROM changes WHERE ledger = 2; DELETE FROM moves WHERE txn = 2; DELETE FROM ledger WHERE id = 2"}) {
    execute(sql);
    const Ran ran = station.hambrel({"verify"});
    EXPECT_TRUE(ran.code == 11 || ran.code == 5 || ran.code == 1) << ran.code << sql << ran.out << ran.err;
    std::ofstream(state, std::ios::binary | std::ios::trunc) << sound;
  }
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Ledger, WhatIsSaidToBeRecreatedCanBeRecreated) {
  const fs::path own = station.root() / "var/lib/hambrel", sound = station.path("sound");
  fs::copy(own, sound, fs::copy_options::recursive);
  for (const char* sql : {"INSERT INTO journal VALUES(1, 3, '', 'install', 'x', 'ada', 5)", "DROP TABLE lists",
                          "UPDATE lists SET list = x'0102'", "UPDATE packages SET manifest = '{'"}) {
    execute(sql);
    for (const auto& words : {std::vector<std::string>{"remove", "lib", "-y"}, {"verify"}})
      EXPECT_THAT(station.hambrel(words).err, HasSubstr("repair --rebuild` recreates it")) << sql;
    EXPECT_EQ(read_file(station.root() / "usr/lib/l"), "two") << sql;
    EXPECT_EQ(station.hambrel({"repair", "--rebuild", "-y"}).code, 0) << sql;
    EXPECT_EQ(station.hambrel({"verify"}).code, 0) << sql;
    EXPECT_EQ(station.installed(), "lib 2-1") << sql;
    fs::remove_all(own);
    fs::copy(sound, own, fs::copy_options::recursive);
  }
}

TEST_F(Ledger, WhatIsNotKnownAnyMoreIsRefusedByNameAndIsNoDamage) {
  const std::string unknown = "what lib 1-1 contained is no longer known";
  const fs::path state = station.root() / "var/lib/hambrel/state.sqlite";
  const std::string sound = read_file(state);
  execute("DELETE FROM lists WHERE package = (SELECT id FROM packages WHERE version = '1-1')");
  EXPECT_THAT(station.hambrel({"undo", "last", "-y"}).err, HasSubstr(unknown));
  EXPECT_THAT(station.hambrel({"rollback", "1", "-y"}).err, HasSubstr(unknown));
  EXPECT_EQ(read_file(station.root() / "usr/lib/l"), "two");
  std::ofstream(state, std::ios::binary | std::ios::trunc) << sound;
  execute("DELETE FROM lists WHERE package = (SELECT id FROM packages WHERE version = '2-1')");
  for (const auto& words : {std::vector<std::string>{"verify"}, {"undo", "last", "-y"}, {"remove", "lib", "-y"}})
    EXPECT_THAT(station.hambrel(words).err, HasSubstr("has no list of the files")) << words[0];
  // lost, and nobody has the older version when it is recreated
  std::ofstream(state, std::ios::binary | std::ios::trunc) << sound;
  fs::remove_all(station.root() / "var/cache/hambrel/packages");
  for (const auto& one : fs::recursive_directory_iterator(station.repository()))
    if (one.path().filename().string().starts_with("1-1.")) fs::remove(one.path());
  EXPECT_EQ(station.publish().code, 0);
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
  fs::remove(state);
  EXPECT_EQ(station.hambrel({"repair", "--rebuild", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"rollback", "1", "-y"}).err, HasSubstr(unknown));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Ledger, ARecordThatLeadsInACircleOrToNothingEndsWithAWord) {
  EXPECT_EQ(station.hambrel({"undo", "last", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"redo", "2", "-y"}).code, 0);
  const fs::path state = station.root() / "var/lib/hambrel/state.sqlite";
  const std::string sound = read_file(state);
  for (const char* const sql :
       {"UPDATE ledger SET undo_of = id WHERE id = 4", "UPDATE ledger SET id = 4000000000000 WHERE id = 3",
        "UPDATE ledger SET undo_of = 4 WHERE id = 2; UPDATE ledger SET undo_of = 2 WHERE id = 4",
        "UPDATE ledger SET undo_of = -1 WHERE id = 4", "UPDATE moves SET kind = 9 WHERE txn = 4",
        "UPDATE moves SET place = '' WHERE txn = 4", "UPDATE moves SET home = '../x' WHERE txn = 4",
        "UPDATE moves SET path = x'7500' WHERE txn = 4",
        "INSERT OR REPLACE INTO attics(txn, bytes) SELECT txn, -1 FROM moves",
        "INSERT INTO generated_changes VALUES(4, 'x', NULL, NULL)",
        "UPDATE changes SET before_package = NULL, after_package = NULL WHERE ledger = 4"}) {
    execute(sql);
    int told = 0;
    for (const auto& words : {std::vector<std::string>{"ledger"},
                              {"ledger", "show", "4"},
                              {"verify"},
                              {"undo", "4", "-n"},
                              {"rollback", "2", "-n"},
                              {"tidy", "attic", "--keep", "0", "-n"},
                              {"upgrade", "-n"}}) {
      const Ran ran = station.hambrel(words);
      EXPECT_LT(ran.code, 12) << sql << ": " << words[0];
      told += (ran.out + ran.err).find("repair --rebuild`") != std::string::npos ? 1 : 0;
    }
    EXPECT_GT(told, 1) << sql;
    std::ofstream(state, std::ios::binary | std::ios::trunc) << sound;
  }
  EXPECT_EQ(station.hambrel({"undo", "4", "-y"}).code, 0);
}

TEST_F(Ledger, NoValueThatSomebodyPutsIntoTheStateBreaksTheProgram) {
  station.pack("lib", "3-1", "", {{"usr/lib/l", "three"}, {"usr/lib/same", "same"}});
  EXPECT_EQ(station.publish().code, 0);
  for (const auto& words : {std::vector<std::string>{"undo", "last", "-y"},
                            {"redo", "2", "-y"},
                            {"checkpoint", "make", "calm"},
                            {"hold", "lib", "-y"},
                            {"release", "lib", "-y"},
                            {"refresh"},
                            {"upgrade", "--prepare", "-y"}})
    ASSERT_EQ(station.hambrel(words).code, 0) << words[0];
  const fs::path state = station.root() / "var/lib/hambrel/state.sqlite";
  const std::string sound = read_file(state);
  const std::vector<std::vector<std::string>> looks{{"list"},
                                                    {"ledger"},
                                                    {"ledger", "show", "last"},
                                                    {"verify"},
                                                    {"undo", "4", "-n"},
                                                    {"rollback", "calm", "-n"},
                                                    {"rollback", "1", "-n"},
                                                    {"tidy", "attic", "--keep", "0", "-n"},
                                                    {"remove", "lib", "-n"},
                                                    {"activate", "-n"},
                                                    {"repair", "-n"},
                                                    {"checkpoint", "list"},
                                                    {"describe", "lib"}};
  const char* const values[] = {"NULL",
                                "''",
                                "'../x'",
                                "'a' || char(10)",
                                "-1",
                                "0",
                                "77",
                                "4611686018427387904",
                                "x'00ff'",
                                "'{}'",
                                "'999999999999999999999999999999'"};
  std::mt19937 random(31);
  int cases = 0;
  for (const auto& [table, column] : columns()) {
    const char* const value = values[random() % std::size(values)];
    if (!try_to("UPDATE " + table + " SET " + column + " = " + value)) continue;  // the schema has a say
    ++cases;
    for (int look = 0; look < 3; ++look) {
      const auto& words = looks[random() % looks.size()];
      const Ran ran = station.hambrel(words);
      EXPECT_LT(ran.code, 12) << table << '.' << column << " = " << value << ": " << words[0] << ran.err;
      for (const char* const fault : {"an assumption does not hold", "an unclean path", "the state database failed"})
        EXPECT_THAT(ran.err, testing::Not(HasSubstr(fault)))
            << table << '.' << column << " = " << value << ": " << words[0];
    }
    std::ofstream(state, std::ios::binary | std::ios::trunc) << sound;
  }
  EXPECT_GT(cases, 60);
}

TEST_F(Ledger, AtticsWhoseSizesAreNotKnownYetAreCountedAndGivenUp) {
  for (const auto& words : {std::vector<std::string>{"tidy", "attic", "--keep", "9", "-y"},
                            {"tidy", "-y"},
                            {"tidy", "attic", "--keep", "1", "-y"}}) {
    execute("DELETE FROM attics WHERE dropped IS NULL");
    const Ran ran = station.hambrel(words);
    EXPECT_EQ(ran.code, 0) << ran.out << ran.err;
  }
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Ledger, TheCopyIsCheckedToo) {
  const fs::path copy = station.root() / "var/lib/hambrel/ledger";
  const std::string second = read_file(copy / "2.json");
  std::string forged = second;
  forged.replace(forged.find("base/stable"), 4, "evil");
  write_file(copy / "2.json", forged, 0600);
  EXPECT_EQ(station.hambrel({"verify"}).code, 11);
  fs::remove(copy / "2.json");
  EXPECT_EQ(station.hambrel({"verify"}).code, 11) << "the end was cut off";
  fs::rename(station.root() / "var/lib/hambrel/state.sqlite", station.path("lost"));
  const Ran cut = station.hambrel({"repair", "--rebuild", "-n"});
  EXPECT_THAT(cut.out + cut.err, HasSubstr("the end was cut off"));
  write_file(copy / "2.json", second, 0600);
  EXPECT_EQ(station.hambrel({"repair", "--rebuild", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"verify"}).code, 0) << station.hambrel({"verify"}).out;
  EXPECT_EQ(station.installed(), "lib 2-1");
}

TEST_F(Ledger, ContentThatWasAlteredInTheAtticIsNotBroughtBack) {
  const std::string now = read_file(station.root() / "usr/lib/l");
  write_file(kept(), "bad");  // as long as it was, in the same file
  const Ran undone = station.hambrel({"undo", "2", "-y"});
  EXPECT_EQ(undone.code, 0) << undone.err;
  EXPECT_THAT(undone.err, HasSubstr("the attic's copy of /usr/lib/l was modified"));
  EXPECT_EQ(read_file(station.root() / "usr/lib/l"), "one") << "from the repository";
}

TEST_F(Ledger, WithoutAnotherSourceItIsRefusedByName) {
  write_file(kept(), "bad");
  fs::remove_all(station.repository());
  fs::remove_all(station.root() / "var/cache/hambrel/packages");
  const Ran undone = station.hambrel({"undo", "2", "-y"});
  EXPECT_EQ(undone.code, 3);
  EXPECT_THAT(undone.err, HasSubstr("/usr/lib/l"));
  EXPECT_EQ(read_file(station.root() / "usr/lib/l"), "two");
}

TEST_F(Ledger, WhatCameFromAFileIsRecordedWithItsDigest) {
  const std::string file = station.path("own.hambrel").string();
  station.pack("own", "1-1", "", {{"usr/bin/own", "o"}}, file);
  EXPECT_EQ(station.hambrel({"install", file, "-y", "--allow-unsigned"}).code, 0);
  EXPECT_EQ(station.json({"ledger", "show", "3"})["changes"][0]["after"]["digest"], sha256(read_file(file)).hex());
}

TEST_F(Ledger, GoingBackSaysThatSomethingIsHeldAndWantsItNamed) {
  EXPECT_EQ(station.hambrel({"hold", "lib", "-y", "--reason", "the fair"}).code, 0);
  const Ran refused = station.hambrel({"rollback", "1", "-y"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err, HasSubstr("lib is held: the fair"));
  EXPECT_THAT(station.hambrel({"rollback", "1", "-n"}).out, HasSubstr("lib is held: the fair; this changes it"));
  EXPECT_EQ(station.hambrel({"rollback", "1", "-y", "--release", "lib"}).code, 0);
  EXPECT_EQ(station.installed(), "lib 1-1");
}

TEST_F(Ledger, AHoldIsGivenAnotherDateOrReason) {
  EXPECT_EQ(station.hambrel({"hold", "lib", "-y", "--reason", "first"}).code, 0);
  EXPECT_EQ(station.hambrel({"hold", "lib", "-y", "--until", "2090-01-01"}).code, 0);
  const auto hold = station.json({"ledger", "show", "4"})["changes"][0]["after"]["hold"];
  EXPECT_EQ(hold["reason"], "first");
  EXPECT_GT(hold["until"], 0);
  EXPECT_THAT(station.hambrel({"hold", "lib", "-y"}).out, HasSubstr("Nothing to do"));
}

}  // namespace hambrel::test
