// The program is killed after each step of a transaction; the next start makes the root whole.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <sstream>

#include "scenario/station.h"

namespace hambrel::test {

class Crash : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lib", "1-1", "", {{"usr/lib/lib.so", "one"}, {"usr/share/lib/a/b", "x"}});
    station.pack("lib", "2-1", "",
                 {{"usr/lib/lib.so", "two"}, {"usr/lib/extra.so", "new"}, {"usr/share/lib/a", "now a file"}});
    station.pack("desk", "1-1", "[relations]\nrequires = [\"lib\"]\n[config]\nfiles = [\"etc/desk.toml\"]\n",
                 {{"usr/bin/desk", "d"}, {"etc/desk.toml", "1\n"}});
    station.open();
  }

  /// Kills the command after every step in turn, until it runs to its end. Before the commit the root must be as it
  /// was, after it as planned; each time nothing may be left in the stage, and the same command must then succeed.
  int kill_everywhere(const std::vector<std::string>& command) {
    const auto before = station.files();
    const std::string set_before = station.installed();
    int cases = 0;
    for (const std::string step : {"staged", "synced", "journaled", "moved:1", "moved:2", "moved:3", "moved:4",
                                   "moved:5", "moved:6", "moved:7", "switched"}) {
      const Ran killed = station.hambrel(command, {{"HAMBREL_TEST_DIE_AT", step}});
      if (killed.code == 0) {  // it has fewer moves than that: put it back and go on
        const auto last = station.json({"ledger", "--most", "1"})["id"].get<int>();
        EXPECT_EQ(station.hambrel({"undo", std::to_string(last), "-y"}).code, 0);
        continue;
      }
      EXPECT_EQ(killed.code, 137) << step << killed.err;
      ++cases;
      EXPECT_EQ(station.installed(), set_before) << step << ": looking must show the state before";
      const Ran recovered = station.hambrel({"recover"});
      EXPECT_EQ(recovered.code, 0) << step << recovered.err;
      EXPECT_EQ(station.files(), before) << step;
      EXPECT_EQ(station.installed(), set_before) << step;
      EXPECT_TRUE(!fs::exists(station.root() / "var/lib/hambrel/stage") ||
                  fs::is_empty(station.root() / "var/lib/hambrel/stage"))
          << step;
    }
    EXPECT_EQ(station.hambrel(command).code, 0);
    const auto after = station.contents();
    const std::string set_after = station.installed();
    const auto last = station.json({"ledger", "--most", "1"})["id"].get<int>();
    EXPECT_EQ(station.hambrel({"undo", std::to_string(last), "-y"}).code, 0);
    EXPECT_EQ(station.files(), before);
    for (const std::string step : {"committed", "done"}) {
      const Ran killed = station.hambrel(command, {{"HAMBREL_TEST_DIE_AT", step}});
      EXPECT_EQ(killed.code, 137) << step;
      ++cases;
      EXPECT_EQ(station.hambrel({"recover"}).code, 0) << step;
      EXPECT_EQ(station.contents(), after) << step;
      EXPECT_EQ(station.installed(), set_after) << step;
      const auto now = station.json({"ledger", "--most", "1"})["id"].get<int>();
      const Ran undone = station.hambrel({"undo", std::to_string(now), "-y"});  // its attic is complete
      EXPECT_EQ(undone.code, 0) << step << undone.err;
      EXPECT_EQ(station.files(), before) << step;
    }
    return cases;
  }
  Station station;
};

TEST_F(Crash, InstallIsAllOrNothing) { EXPECT_GE(kill_everywhere({"install", "desk", "lib=1", "-y"}), 6); }

TEST_F(Crash, UpgradeIsAllOrNothing) {
  station.hambrel({"install", "desk", "lib=1", "-y"});
  EXPECT_GE(kill_everywhere({"upgrade", "-y"}), 8);
}

TEST_F(Crash, ASavedPlanIsAppliedAsAWholeOrNotAtAllAndCanBeAppliedThen) {
  station.hambrel({"install", "desk", "lib=1", "-y"});
  const std::string file = station.path("night.plan").string();
  const auto before = station.files();
  for (const std::string step : {"staged", "journaled", "moved:2", "switched", "committed", "done"}) {
    ASSERT_EQ(station.hambrel({"upgrade", "--save", file}).code, 0) << step;
    EXPECT_EQ(station.hambrel({"apply", file, "-y"}, {{"HAMBREL_TEST_DIE_AT", step}}).code, 137) << step;
    EXPECT_EQ(station.hambrel({"recover"}).code, 0) << step;
    const bool is_done = step == "committed" || step == "done";
    EXPECT_EQ(station.files() == before, !is_done) << step;
    const Ran again = station.hambrel({"apply", file, "-y"});
    EXPECT_EQ(again.code, is_done ? 3 : 0) << step << again.err;
    EXPECT_EQ(station.installed(), "desk 1-1, lib 2-1") << step;
    const auto last = station.json({"ledger", "--kind", "upgrade", "--most", "1"})["id"].get<int>();
    ASSERT_EQ(station.hambrel({"undo", std::to_string(last), "-y"}).code, 0) << step;
    EXPECT_EQ(station.files(), before) << step;
  }
}

TEST_F(Crash, RemovalIsAllOrNothing) {
  station.hambrel({"install", "desk", "lib=1", "-y"});
  EXPECT_GE(kill_everywhere({"remove", "desk", "lib", "-y"}), 8);
}

TEST_F(Crash, UndoIsAllOrNothing) {
  station.hambrel({"install", "desk", "lib=1", "-y"});
  station.hambrel({"upgrade", "-y"});
  const auto before = station.files(), contents = station.contents();
  for (const std::string step : {"journaled", "moved:1", "moved:2", "moved:3", "switched"}) {
    EXPECT_EQ(station.hambrel({"undo", "2", "-y"}, {{"HAMBREL_TEST_DIE_AT", step}}).code, 137) << step;
    EXPECT_EQ(station.hambrel({"recover"}).code, 0);
    EXPECT_EQ(station.files(), before) << step;
  }
  EXPECT_EQ(station.hambrel({"undo", "2", "-y"}, {{"HAMBREL_TEST_DIE_AT", "committed"}}).code, 137);
  EXPECT_EQ(station.installed(), "desk 1-1, lib 1-1");
  const Ran again =
      station.hambrel({"upgrade", "-y"});  // the next change finishes what was left over, then does its own
  EXPECT_EQ(again.code, 0) << again.err;
  EXPECT_EQ(station.contents(), contents);
}

TEST_F(Crash, AChangingCommandRecoversFirstAndALookingOneOnlySaysSo) {
  EXPECT_EQ(station.hambrel({"install", "desk", "-y"}, {{"HAMBREL_TEST_DIE_AT", "moved:1"}}).code, 137);
  EXPECT_THAT(station.hambrel({"list"}).err, testing::HasSubstr("transaction 1 (install) was interrupted"));
  const Ran next = station.hambrel({"install", "lib=1", "-y"});
  EXPECT_EQ(next.code, 0);
  EXPECT_THAT(next.err, testing::HasSubstr("recovered: transaction 1 (install) was interrupted; 1 of its"));
  EXPECT_EQ(station.installed(), "lib 1-1");
}

TEST_F(Crash, ASecondRunIsToldWhoHoldsTheRoot) {
  const std::string program = std::string(HAMBREL_PROGRAM) + " --root " + station.root().string();
  fs::create_directories(station.root() / "var/lib/hambrel/private");
  const Ran ran = run(
      {"flock", (station.root() / "var/lib/hambrel/private/lock").string(), "sh", "-c", program + " install lib -y"});
  EXPECT_EQ(ran.code, 6);
  EXPECT_THAT(ran.err, testing::HasSubstr("this root is being changed by another run"));
  // held for a moment only: the second waits and then does its work
  const Ran waited = run({"sh", "-c",
                          "flock " + (station.root() / "var/lib/hambrel/private/lock").string() +
                              " sleep 0.5 & sleep 0.1; " + program + " install lib -y --wait 20"});
  EXPECT_EQ(waited.code, 0) << waited.err;
  EXPECT_EQ(station.installed(), "lib 2-1");
}

TEST_F(Crash, CtrlCBeforeTheSwitchCancelsAndInTheSwitchIsTooLate) {
  const auto before = station.files();
  const Ran stopped = station.hambrel({"install", "-y", "desk"}, {{"HAMBREL_TEST_STOP_AT", "staged"}});
  EXPECT_EQ(stopped.code, 4);
  EXPECT_THAT(stopped.err, testing::HasSubstr("interrupted; nothing was changed"));
  EXPECT_EQ(station.files(), before);
  EXPECT_TRUE(fs::is_empty(station.root() / "var/lib/hambrel/stage"));
  EXPECT_EQ(station.json({"ledger", "--most", "1"})["result"], "failed");
  const Ran late = station.hambrel({"install", "-y", "desk"}, {{"HAMBREL_TEST_STOP_AT", "moved"}});
  EXPECT_EQ(late.code, 0);
  EXPECT_THAT(late.err, testing::HasSubstr("which was completed first"));
  EXPECT_EQ(station.installed(), "desk 1-1, lib 2-1");
}

TEST_F(Crash, FilesOfNobodysAreKeptInTheAtticOrRefused) {
  write_file(station.root() / "usr/bin/desk", "by hand");
  const Ran strict = station.hambrel({"install", "-y", "--strict", "desk"});
  EXPECT_EQ(strict.code, 3);
  EXPECT_THAT(strict.err, testing::HasSubstr("files no package owns are in the way: /usr/bin/desk (desk)"));
  EXPECT_EQ(read_file(station.root() / "usr/bin/desk"), "by hand");
  const Ran plain = station.hambrel({"install", "-y", "desk"});
  EXPECT_EQ(plain.code, 0);
  EXPECT_THAT(plain.out, testing::HasSubstr("/usr/bin/desk"));
  EXPECT_EQ(
      station.hambrel({"undo", "-y", std::to_string(station.json({"ledger", "--most", "1"})["id"].get<int>())}).code,
      0);
  EXPECT_EQ(read_file(station.root() / "usr/bin/desk"), "by hand");
}

}  // namespace hambrel::test
