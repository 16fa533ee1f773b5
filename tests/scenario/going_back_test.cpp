// rollback, redo, verify and repair, as administrators use them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>

#include <atomic>
#include <random>
#include <thread>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

class GoingBack : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lib", "1-1", "", {{"usr/lib/lib.so", "one"}, {"usr/share/lib/a/b", "x"}});
    station.pack("lib", "2-1", "", {{"usr/lib/lib.so", "two"}, {"usr/share/lib/a", "now a file"}});
    station.pack("desk", "1-1", "[relations]\nrequires = [\"lib\"]\n[config]\nfiles = [\"etc/*\"]\n",
                 {{"usr/bin/desk", "d"}, {"etc/desk", "1\n"}});
    station.open();
    ASSERT_EQ(station.hambrel({"install", "desk", "lib=1", "-y"}).code, 0);
  }
  Station station;
};

TEST_F(GoingBack, RollbackShowsWhatItWouldDoAndDoesItInOneTransaction) {
  write_file(station.root() / "etc/desk", "mine\n");
  const auto before = station.files();
  station.hambrel({"upgrade", "-y"});
  station.hambrel({"remove", "desk", "-y"});
  const auto now = station.files();
  const Ran shown = station.hambrel({"rollback", "1", "--dry-run"});
  EXPECT_THAT(shown.out, HasSubstr("downgrade  lib   2-1 -> 1-1  as after transaction 1"));
  EXPECT_THAT(shown.out, HasSubstr("install    desk  1-1         as after transaction 1"));
  EXPECT_THAT(shown.out, HasSubstr("Nothing to fetch (all from attic)"));
  EXPECT_EQ(station.files(), now);
  ASSERT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "desk 1-1, lib 1-1");
  EXPECT_EQ(read_file(station.root() / "etc/desk"), "mine\n");
  EXPECT_EQ(read_file(station.root() / "usr/share/lib/a/b"), "x");
  EXPECT_EQ(station.json({"ledger", "--most", "1"})["kind"], "rollback");
  EXPECT_THAT(station.hambrel({"rollback", "1", "-y"}).out, HasSubstr("Nothing to do"));
  ASSERT_EQ(station.hambrel({"undo", "4", "-y"}).code, 0);
  EXPECT_EQ(station.contents(), [&] {
    auto plain = now;
    for (auto& [path, facts] : plain)
      if (facts.starts_with("40")) facts = facts.substr(0, facts.find(' ', facts.find(' ') + 1));
    return plain;
  }());
  EXPECT_EQ(station.without_root(station.hambrel({"rollback", "99", "-y"}).err),
            "Failed: the ledger has no transaction 99\n  -> `hambrel ledger` lists them\n");
}

TEST_F(GoingBack, AProgramThatWasEditedByHandComesBackByUndoAndAsItsPackageHasItByRollback) {
  const fs::path file = station.root() / "usr/lib/lib.so";
  write_file(file, "by hand");
  ASSERT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  ASSERT_EQ(read_file(file), "two");
  ASSERT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0);
  EXPECT_EQ(read_file(file), "one") << "transaction 1 put it there";
  ASSERT_EQ(station.hambrel({"undo", "last", "-y"}).code, 0);
  EXPECT_EQ(read_file(file), "two");
  ASSERT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  EXPECT_EQ(read_file(file), "by hand") << "the upgrade took it away";
}

TEST_F(GoingBack, ACheckpointBringsTheEditedFileBackWhateverBecameOfIt) {
  write_file(station.root() / "etc/desk", "mine at the checkpoint\n", 0640);
  EXPECT_EQ(station.hambrel({"checkpoint", "make", "calm", "--reason", "before the step"}).code, 0);
  EXPECT_THAT(station.hambrel({"checkpoint", "make", "calm"}).err, HasSubstr("checkpoint calm already exists"));
  EXPECT_THAT(station.hambrel({"checkpoint", "make", "7"}).err, HasSubstr("cannot be the name of a checkpoint"));
  EXPECT_THAT(station.hambrel({"checkpoint", "list"}).out,
              HasSubstr("after transaction 1  1 configuration file, 23 B"));
  const auto calm = without_link_counts(station.contents());
  EXPECT_THAT(station.hambrel({"rollback", "calm", "-y"}).out,
              HasSubstr("Nothing to do: everything is as it was then."));
  // edited in place, and nothing else
  write_file(station.root() / "etc/desk", "a mistake\n");
  EXPECT_EQ(station.hambrel({"rollback", "calm", "-y"}).code, 0);
  const auto settled = [&] {
    auto now = without_link_counts(station.contents());
    now["etc/desk"].replace(now["etc/desk"].find('.'), 10,
                            calm.at("etc/desk").substr(calm.at("etc/desk").find('.'), 10));
    return now;
  };
  EXPECT_EQ(settled(), calm);
  // after an upgrade, with the package and its file gone
  station.hambrel({"upgrade", "-y"});
  station.hambrel({"remove", "desk", "-y"});
  fs::remove(station.root() / "etc/desk");
  const Ran back = station.hambrel({"rollback", "calm", "-y"});
  EXPECT_EQ(back.code, 0) << back.err;
  EXPECT_EQ(settled(), calm);
  EXPECT_EQ(station.hambrel({"checkpoint", "drop", "calm", "-y"}).code, 0);
  EXPECT_FALSE(fs::exists(station.root() / "var/lib/hambrel/checkpoints/1"));
  EXPECT_EQ(station.hambrel({"rollback", "calm", "-y"}).code, 1);
}

TEST_F(GoingBack, WhatTheAtticLostComesFromTheCacheOrARepositoryOrIsRefusedByName) {
  const auto before = station.contents();
  ASSERT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  fs::remove(station.root() / "var/lib/hambrel/attic/2/tree/0/0");
  EXPECT_THAT(station.hambrel({"rollback", "1", "-n"}).out,
              HasSubstr("downgrade  lib  2-1 -> 1-1  as after transaction 1  cache"));
  ASSERT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0);
  EXPECT_EQ(without_link_counts(station.contents()), without_link_counts(before));
  ASSERT_EQ(station.hambrel({"undo", "3", "-y"}).code, 0);
  fs::remove_all(station.root() / "var/lib/hambrel/attic");
  write_file(station.root() / "var/cache/hambrel/packages/lib/1-1.independent.hambrel", "no package");
  const Ran shown = station.hambrel({"rollback", "1", "-n"});
  EXPECT_THAT(shown.out, HasSubstr("as after transaction 1  base/stable"));
  EXPECT_THAT(shown.out, HasSubstr("in 1 file from base/stable, disk use"));
  ASSERT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0);
  EXPECT_EQ(without_link_counts(station.contents()), without_link_counts(before));
  ASSERT_EQ(station.hambrel({"undo", "5", "-y"}).code, 0);
  const auto now = station.files();
  fs::remove_all(station.root() / "var/lib/hambrel/attic");
  fs::remove_all(station.repository() / "packages");
  const Ran refused = station.hambrel({"rollback", "1", "-y"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err,
              HasSubstr("/usr/lib/lib.so: the version of lib 1-1 is not in the attic, the cache or a repository"));
  EXPECT_EQ(station.files(), now);
}

TEST_F(GoingBack, DowngradeShowsWhereOlderVersionsAreAndMayHoldTheOneThatIsTaken) {
  EXPECT_THAT(station.hambrel({"downgrade", "lib", "-y"}).err,
              HasSubstr("no version of lib older than 1-1 is available"));
  ASSERT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  const auto upgraded = station.contents();
  EXPECT_EQ(station.hambrel({"downgrade", "lib"}).code, 4) << "there is nobody to ask";
  EXPECT_THAT(station.hambrel({"downgrade", "lib=3", "-y"}).err,
              HasSubstr("available versions: 1-1 (attic, base/stable)"));
  EXPECT_THAT(station.hambrel({"downgrade", "lib", "-n"}).out, HasSubstr("1  1-1  attic, base/stable  installed here"));
  // out of the attic: neither cache nor repository is needed
  fs::remove_all(station.root() / "var/cache/hambrel/packages");
  fs::rename(station.repository() / "packages", station.repository() / "away");
  const Ran down = station.hambrel({"downgrade", "lib=1", "--hold", "--reason", "it flickers", "-y"});
  ASSERT_EQ(down.code, 0) << down.err;
  EXPECT_THAT(down.out, HasSubstr("downgrade  lib  2-1 -> 1-1  asked for, now held  attic"));
  EXPECT_EQ(read_file(station.root() / "usr/share/lib/a/b"), "x");
  fs::rename(station.repository() / "away", station.repository() / "packages");
  EXPECT_THAT(station.hambrel({"upgrade", "-y"}).out, HasSubstr("lib is held at 1-1 (2-1 is available): it flickers"));
  EXPECT_THAT(station.hambrel({"ledger", "show", "3"}).out, HasSubstr("asked for, held: it flickers"));
  EXPECT_EQ(station.json({"describe", "lib"})["reason"], "wanted");
  ASSERT_EQ(station.hambrel({"undo", "3", "-y"}).code, 0);
  EXPECT_EQ(station.contents(), upgraded);
  EXPECT_EQ(station.hambrel({"list", "held"}).out, "No packages match.\n");
  // without an attic: from the repository; what requires the newer one stands in the way, with a way out
  fs::remove_all(station.root() / "var/lib/hambrel/attic");
  station.pack("post", "1-1", "[relations]\nrequires = [\"lib >= 2\"]\n", {{"usr/bin/post", "p"}});
  station.publish();
  station.hambrel({"refresh"});
  ASSERT_EQ(station.hambrel({"install", "post", "-y"}).code, 0);
  const Ran refused = station.hambrel({"downgrade", "lib=1", "-y"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err, HasSubstr("change --install lib=1-1 --remove post"));
  ASSERT_EQ(station.hambrel({"remove", "post", "-y"}).code, 0);
  const Ran fetched = station.hambrel({"downgrade", "lib", "-y"});
  EXPECT_THAT(fetched.out, HasSubstr("lib  2-1 -> 1-1  asked for  base/stable"));
  EXPECT_EQ(station.installed(), "desk 1-1, lib 1-1");
}

TEST_F(GoingBack, ARemedyOfADowngradeTakenByItsNumberKeepsItsHoldAndTheVersionOfTheAttic) {
  station.pack("post", "1-1", "[relations]\nrequires = [\"lib >= 2\"]\n", {{"usr/bin/post", "p"}});
  station.publish();
  station.hambrel({"refresh"});
  ASSERT_EQ(station.hambrel({"remove", "desk", "lib", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"install", "post", "-y"}).code, 0);
  ASSERT_EQ(station.json({"describe", "lib"})["reason"], "pulled-in");
  fs::remove_all(station.root() / "var/cache/hambrel/packages");
  fs::remove_all(station.repository() / "packages/lib");  // only the attic has 1-1 now
  station.publish();
  station.hambrel({"refresh"});
  const Ran ran = station.on_terminal("1|yes", {"downgrade", "lib=1", "--hold", "--reason", "it flickers"});
  ASSERT_EQ(ran.code, 0) << ran.out;
  EXPECT_EQ(station.installed(), "lib 1-1");
  const auto lib = station.json({"list", "held"});
  EXPECT_EQ(lib["hold"]["reason"], "it flickers") << lib;
  EXPECT_EQ(lib["reason"], "pulled-in") << "nobody said that it is wanted";
}

TEST_F(GoingBack, ShelvedFilesWaitInTheAtticAndComeBack) {
  write_file(station.root() / "etc/desk", "edited\n");
  const auto before = station.contents();
  const Ran refused = station.hambrel({"shelve", "lib", "-y"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err, HasSubstr("others need it: desk 1-1 requires lib"));
  EXPECT_THAT(refused.err, HasSubstr(" shelve desk lib\n"));
  EXPECT_THAT(station.hambrel({"unshelve", "desk", "-y"}).err, HasSubstr("desk is not shelved"));
  ASSERT_EQ(station.hambrel({"shelve", "desk", "-y", "--reason", "quiet week"}).code, 0);
  ASSERT_EQ(station.hambrel({"shelve", "lib", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "");
  EXPECT_FALSE(fs::exists(station.root() / "usr/bin/desk"));
  EXPECT_EQ(read_file(station.root() / "etc/desk"), "edited\n");
  EXPECT_THAT(station.hambrel({"list", "shelved"}).out, HasSubstr("desk  1-1  wanted  shelved"));
  EXPECT_THAT(station.hambrel({"remove", "lib", "-y"}).err, HasSubstr("lib 1-1 is shelved"));
  EXPECT_THAT(station.hambrel({"install", "desk", "-y"}).err, HasSubstr("unshelve desk` brings it back"));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  // unshelved: without cache and repository, with what it requires
  fs::remove_all(station.root() / "var/cache/hambrel");
  fs::rename(station.repository(), station.path("away"));
  const Ran back = station.hambrel({"unshelve", "desk", "lib", "-y"});
  ASSERT_EQ(back.code, 0) << back.err;
  EXPECT_THAT(back.out, HasSubstr("unshelve  desk  1-1  asked for"));
  EXPECT_EQ(without_link_counts(station.contents()), without_link_counts(before));
  EXPECT_EQ(station.installed(), "desk 1-1, lib 1-1");
  EXPECT_EQ(station.json({"list", "name:desk"})["reason"], "wanted");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  // both ways are undone like any transaction, and a rollback goes past them
  ASSERT_EQ(station.hambrel({"undo", "4", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "");
  EXPECT_THAT(station.hambrel({"list", "shelved"}).out, HasSubstr("lib"));
  ASSERT_EQ(station.hambrel({"undo", "3", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lib 1-1");
  EXPECT_THAT(station.hambrel({"ledger", "show", "2"}).out, HasSubstr("quiet week"));
  EXPECT_THAT(station.hambrel({"rollback", "1", "-n"}).out, HasSubstr("unshelve  desk  1-1  as after transaction 1"));
  ASSERT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0);
  EXPECT_EQ(without_link_counts(station.contents()), without_link_counts(before));
  ASSERT_EQ(station.hambrel({"rollback", "2", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lib 1-1");
  EXPECT_EQ(read_file(station.root() / "etc/desk"), "edited\n");
  EXPECT_THAT(station.hambrel({"list", "shelved"}).out, HasSubstr("desk"));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(GoingBack, RedoDoesAgainWhatWasUndone) {
  station.hambrel({"upgrade", "-y"});
  const auto upgraded = station.contents();
  EXPECT_THAT(station.hambrel({"redo", "2", "-y"}).err, HasSubstr("it was not undone"));
  station.hambrel({"undo", "2", "-y"});
  ASSERT_EQ(station.hambrel({"redo", "2", "-y"}).code, 0);
  EXPECT_EQ(station.contents(), upgraded);
  EXPECT_THAT(station.hambrel({"redo", "2", "-y"}).err, HasSubstr("it was already done again by transaction 4"));
}

TEST_F(GoingBack, VerifyNamesEachDamageAndRepairPutsItRightFromWhereItIs) {
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  const auto whole = without_link_counts(station.contents());
  for (const bool in_cache : {true, false}) {
    write_file(station.root() / "etc/desk", "edited\n");
    fs::remove_all(station.root() / "usr/share/lib");
    write_file(station.root() / "usr/lib/lib.so", "bad");
    set_times(station.root() / "usr/lib", 1'600'000'000);
    fs::permissions(station.root() / "usr/bin/desk", fs::perms::owner_all);
    if (!in_cache) fs::remove_all(station.root() / "var/cache/hambrel/packages");
    const auto damaged = station.contents();
    const Ran verified = station.hambrel({"verify", in_cache ? "--fast" : "--color=never"});
    EXPECT_EQ(verified.code, 11);
    EXPECT_EQ(verified.out, std::string("  kept     /etc/desk        edited configuration      desk\n"
                                        "  damaged  /usr/bin/desk    mode is not 0644          desk\n"
                                        "  damaged  /usr/lib/lib.so  content differs           lib\n"
                                        "  damaged  /usr/share/lib   missing, with 2 below it  lib\n\n"
                                        "4 files in 2 packages, ") +
                                (in_cache ? "3 B" : "4 B") + " read: 5 damaged.\n");
    ASSERT_EQ(station.hambrel({"repair", "-y"}).code, 0);
    EXPECT_EQ(station.hambrel({"verify"}).code, 0);
    const auto id = station.json({"ledger", "--most", "1"})["id"].get<int>();
    ASSERT_EQ(station.hambrel({"undo", std::to_string(id), "-y"}).code, 0);
    EXPECT_EQ(station.contents(), damaged);
    ASSERT_EQ(station.hambrel({"redo", std::to_string(id), "-y"}).code, 0);
    write_file(station.root() / "etc/desk", "1\n");
    set_times(station.root() / "etc", 1'700'000'000);
    EXPECT_EQ(without_link_counts(station.contents()), whole);
  }
  EXPECT_THAT(station.hambrel({"repair", "-y"}).out, HasSubstr("Nothing to repair"));
}

TEST_F(GoingBack, WhatNobodyHasAnyMoreIsToldAndTheRestIsRepaired) {
  fs::remove_all(station.root() / "var/cache/hambrel/packages");
  fs::remove_all(station.repository() / "packages/lib");
  station.publish();
  station.hambrel({"refresh"});
  fs::remove(station.root() / "usr/lib/lib.so");
  fs::remove(station.root() / "usr/bin/desk");
  const Ran repaired = station.hambrel({"repair", "-y"});
  EXPECT_THAT(
      repaired.out,
      HasSubstr("/usr/lib/lib.so of lib cannot be restored: it is not in the attic, the cache or a repository"));
  EXPECT_EQ(read_file(station.root() / "usr/bin/desk"), "d");
  EXPECT_EQ(station.hambrel({"verify"}).code, 11);
}

TEST_F(GoingBack, TheLedgerTellsWhatChangedLastAndWhichTransactionsMeetConditions) {
  station.hambrel({"upgrade", "-y"});
  station.hambrel({"remove", "desk", "-y"});
  const Ran packages = station.hambrel({"ledger", "packages", "2", "--json"});
  EXPECT_THAT(packages.out, testing::MatchesRegex("[^\n]*\"after\":null,\"before\":\"1-1\"[^\n]*\"desk\"[^\n]*\n"
                                                  "[^\n]*\"after\":\"2-1\",\"before\":\"1-1\"[^\n]*\"lib\"[^\n]*\n"));
  const auto ids = [&](std::vector<std::string> words) {
    words.insert(words.begin(), "ledger");
    words.push_back("--json");
    std::string text;
    std::istringstream lines(station.hambrel(words).out);
    for (std::string line; std::getline(lines, line);) text += nlohmann::json::parse(line)["id"].dump() + " ";
    return text;
  };
  EXPECT_EQ(ids({"--package", "d*"}), "3 1 ");
  EXPECT_EQ(ids({"--kind", "upgrade"}), "2 ");
  EXPECT_EQ(ids({"--since", "2030-01-01", "--until", "2020-01-01"}), "");
  EXPECT_EQ(ids({"export"}), "1 2 3 ");
  EXPECT_EQ(station.hambrel({"ledger", "--since", "soon"}).code, 2);
}

TEST_F(GoingBack, VerifyFindsAStageThatBelongsToNothingAndRepairTakesItAway) {
  const fs::path stage = station.root() / "var/lib/hambrel/stage/99";
  write_file(stage / "tree/0/0", "left over");
  const Ran verified = station.hambrel({"verify"});
  EXPECT_EQ(verified.code, 11);
  EXPECT_THAT(verified.out, HasSubstr("stage/99 belongs to no transaction"));
  EXPECT_THAT(verified.err, HasSubstr("repair` restores"));
  EXPECT_EQ(station.hambrel({"repair", "-y"}).code, 0);
  EXPECT_FALSE(fs::exists(stage));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(GoingBack, VerifyFindsAnAlteredLedger) {
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  run({"python3", "-c",
       "import sqlite3,sys; d=sqlite3.connect(sys.argv[1]); d.execute(\"UPDATE ledger SET user='nobody'\"); d.commit()",
       (station.root() / "var/lib/hambrel/state.sqlite").string()});
  const Ran verified = station.hambrel({"verify"});
  EXPECT_EQ(verified.code, 11);
  EXPECT_THAT(verified.out, HasSubstr("the ledger's entry of transaction 1 was modified"));
}

TEST_F(GoingBack, RepairCompletesWhatPackagesLackAndPutsFilesBackAfterOneQuestion) {
  const auto whole = station.contents();
  ASSERT_EQ(station.hambrel({"install", "desk", "lib=1", "-y"}).code, 0);
  run({"python3", "-c",  // as if somebody had taken the package away behind the state's back
       "import sqlite3,sys; d=sqlite3.connect(sys.argv[1]);"
       "d.execute(\"UPDATE packages SET state='attic' WHERE name='lib'\"); d.commit()",
       (station.root() / "var/lib/hambrel/state.sqlite").string()});
  for (const char* const path : {"usr/lib", "usr/share", "usr/bin/desk"}) fs::remove_all(station.root() / path);
  const Ran verified = station.hambrel({"verify"});
  EXPECT_EQ(verified.code, 11);
  EXPECT_THAT(verified.out, HasSubstr("desk 1-1 requires lib"));
  const Ran repaired = station.hambrel({"repair", "-y"});
  EXPECT_EQ(repaired.code, 0) << repaired.err;
  EXPECT_THAT(repaired.out, HasSubstr("desk requires lib"));
  EXPECT_EQ(read_file(station.root() / "usr/bin/desk"), "d");
  EXPECT_EQ(read_file(station.root() / "usr/lib/lib.so"), "two");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  EXPECT_EQ(station.json({"ledger", "--most", "1"})["kind"], "repair");
}

TEST_F(GoingBack, ALostStateIsMadeAnewOutOfTheCopyOfTheLedger) {
  write_file(station.root() / "etc/desk", "mine\n");
  ASSERT_EQ(station.hambrel({"hold", "lib", "--reason", "tried", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"install", "lib=2", "--dry-run"}).code, 3);
  ASSERT_EQ(station.hambrel({"release", "lib", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"hold", "desk", "-y"}).code, 0);
  const auto files = station.files();
  const std::string installed = station.installed();
  const std::string held = station.hambrel({"list", "held", "--json"}).out;
  const std::string ledger = station.hambrel({"ledger", "export"}).out;
  const std::string database = station.root() / "var/lib/hambrel/state.sqlite";
  EXPECT_THAT(station.hambrel({"repair", "--rebuild", "-y"}).err, HasSubstr("the state of this root is fine"));
  for (const bool garbage : {false, true}) {
    if (garbage)
      write_file(database, std::string(4096, 'x'));
    else
      fs::remove(database);
    EXPECT_NE(station.hambrel({"list"}).code, 0) << "a lost state is not an empty one";
    EXPECT_THAT(station.hambrel({"install", "desk", "-y"}).err, HasSubstr("repair --rebuild` recreates it"));
    const Ran made = station.hambrel({"repair", "--rebuild", "-y"});
    EXPECT_EQ(made.code, 0) << made.err;
    EXPECT_EQ(station.installed(), installed);
    EXPECT_EQ(station.hambrel({"list", "held", "--json"}).out, held);
    EXPECT_EQ(station.files(), files);
    EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  }
  std::istringstream now(station.hambrel({"ledger", "export"}).out), before(ledger);
  for (std::string one, other; std::getline(before, one);) {
    ASSERT_TRUE(std::getline(now, other));
    EXPECT_EQ(nlohmann::json::parse(one)["digest"], nlohmann::json::parse(other)["digest"]) << "L1";
  }
  EXPECT_THAT(station.hambrel({"undo", "4", "-y"}).err, HasSubstr("in the attic: transaction"));
  ASSERT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0) << "from the cache";
  EXPECT_EQ(read_file(station.root() / "usr/lib/lib.so"), "one");
  EXPECT_EQ(read_file(station.root() / "etc/desk"), "mine\n");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(GoingBack, WhatNobodyHasIsNamedWhenTheStateIsMadeAnewAndAnAlteredCopyIsNotBelieved) {
  const std::string loose = station.pack("loose", "1-1", "", {{"usr/loose", "l"}}, station.path("loose.hambrel"));
  ASSERT_EQ(station.hambrel({"install", loose, "-y", "--allow-unsigned"}).code, 0);
  const std::string exported = station.path("ledger.jsonl");
  write_file(exported, station.hambrel({"ledger", "export"}).out);
  const fs::path home = station.root() / "var/lib/hambrel";
  fs::remove(home / "state.sqlite");
  const std::string copy = read_file(home / "ledger/2.json");
  write_file(home / "ledger/2.json", std::string(copy).replace(copy.find("install"), 7, "INSTALL"));
  const Ran shown = station.hambrel({"repair", "--rebuild", "-n"});
  EXPECT_THAT(shown.out, HasSubstr("later transactions are not known"));
  EXPECT_THAT(shown.out, testing::Not(HasSubstr("loose")));
  const Ran lost = station.hambrel({"repair", "--rebuild", "--ledger", exported, "-n"});
  EXPECT_THAT(lost.out, HasSubstr("lost       loose  1-1  wanted  its package file is nowhere"));
  EXPECT_EQ(station.hambrel({"repair", "--rebuild", "--ledger", exported, loose, "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "desk 1-1, lib 1-1, loose 1-1");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(GoingBack, ARepairOverHttpFetchesOnlyTheFramesItNeeds) {
  std::mt19937 random(5);
  std::map<std::string, std::string> files;
  for (int i = 0; i < 12; ++i) {
    std::string& content = files["usr/share/tiles/" + std::to_string(i)];
    content.resize(1 << 20);
    for (char& c : content) c = static_cast<char>(random());
  }
  const std::string file = station.pack("tiles", "1-1", "", files);
  station.publish();
  httplib::Server server;
  std::atomic<std::size_t> served = 0;
  server.set_mount_point("/", station.repository().string());
  server.set_logger([&](const httplib::Request& request, const httplib::Response& response) {
    if (request.path.find("tiles") != std::string::npos)
      served += std::stoul(response.get_header_value("Content-Length"));
  });
  const int port = server.bind_to_any_port("127.0.0.1");
  std::thread serving([&] { server.listen_after_bind(); });
  station.hambrel({"repo", "drop", "base"});
  station.hambrel({"repo", "add", "web", "http://127.0.0.1:" + std::to_string(port), "--unsigned"});
  station.hambrel({"refresh"});
  EXPECT_EQ(station.hambrel({"install", "tiles", "-y"}).code, 0);
  fs::remove_all(station.root() / "var/cache/hambrel/packages");
  write_file(station.root() / "usr/share/tiles/7", "damaged");
  served = 0;
  EXPECT_EQ(station.hambrel({"repair", "tiles", "-y"}).code, 0);
  server.stop();
  serving.join();
  EXPECT_EQ(read_file(station.root() / "usr/share/tiles/7"), files["usr/share/tiles/7"]);
  EXPECT_GT(served, 1U << 20);
  EXPECT_LT(served, fs::file_size(file) / 10);
}

}  // namespace hambrel::test
