// install, remove, upgrade, undo as an administrator meets them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <sstream>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

class Change : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lib", "1-1", "", {{"usr/lib/lib.so.1", "one"}, {"usr/share/doc/lib/readme", "r"}});
    station.pack("lib", "2-1", "", {{"usr/lib/lib.so.2", "two"}, {"usr/share/doc/lib/readme", "r"}});
    station.pack("desk", "1-1", "[relations]\nrequires = [\"lib = 1\"]\n[config]\nfiles = [\"etc/desk.toml\"]\n",
                 {{"usr/bin/desk", "desk one"}, {"etc/desk.toml", "lamps = 1\n"}, {"usr/share/desk/shape", "a file"}});
    station.pack(
        "desk", "2-1", "[relations]\nrequires = [\"lib = 2\"]\n[config]\nfiles = [\"etc/desk.toml\"]\n",
        {{"usr/bin/desk", "desk two"}, {"etc/desk.toml", "lamps = 2\n"}, {"usr/share/desk/shape/now", "a directory"}});
    station.pack("horn", "1-1", "[relations]\nconflicts = [\"desk >= 2\"]\n", {{"usr/bin/horn", "tut"}});
    station.open();
    station.pack("thief", "1-1", "", {{"usr/bin/desk", "not yours"}}, station.path("thief.hambrel").string());
  }
  Station station;
};

TEST_F(Change, InstallAndUndoLeaveEveryByteModeAndTimeAsBefore) {
  write_file(station.root() / "usr/lib/other", "mine");
  const auto before = station.files();
  const Ran ran = station.hambrel({"install", "desk=1", "--yes", "--reason", "first"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(station.installed(), "desk 1-1, lib 1-1");
  EXPECT_EQ(read_file(station.root() / "usr/bin/desk"), "desk one");
  EXPECT_THAT(ran.out, HasSubstr("desk requires lib = 1"));
  const auto installed = station.files();
  EXPECT_EQ(station.hambrel({"undo", "1", "--yes"}).code, 0);
  EXPECT_EQ(station.files(), before);
  EXPECT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);  // and forward again
  EXPECT_EQ(station.files(), installed);
  EXPECT_EQ(station.installed(), "desk 1-1, lib 1-1");
}

TEST_F(Change, AnUpgradeChangesKindsOfPathsAndIsUndone) {
  station.hambrel({"install", "desk=1", "--yes"});
  const auto before = station.files();
  const Ran ran = station.hambrel({"upgrade", "--yes"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(station.installed(), "desk 2-1, lib 2-1");
  EXPECT_EQ(read_file(station.root() / "usr/share/desk/shape/now"), "a directory");
  EXPECT_FALSE(fs::exists(station.root() / "usr/lib/lib.so.1"));
  const auto after = station.files();
  EXPECT_EQ(station.hambrel({"undo", "2", "--yes"}).code, 0);
  EXPECT_EQ(station.files(), before);
  station.hambrel({"undo", "3", "--yes"});
  EXPECT_EQ(station.files(), after);
}

TEST_F(Change, AnUpgradeTreatsWhatIsNotAsRecordedTheSameInSmallAndLargePackages) {
  std::vector<std::string> told;
  for (const int count : {40, 1500}) {  // files: many are looked at by several threads while the tables are read
    const std::string name = "maps" + std::to_string(count);
    std::map<std::string, std::string> files{{"etc/" + name, "scale = 1\n"}};
    const auto path = [&](int i) {
      return "usr/share/" + name + "/" + std::to_string(i % 7) + "/" + std::to_string(i);
    };
    for (int i = 0; i < count; ++i) files[path(i)] = "map " + std::to_string(i);
    const std::string config = "[config]\nfiles = [\"etc/**\"]\n";
    station.pack(name, "1-1", config, files);
    files[path(3)] = "a better map";
    files.erase(path(4));
    files["usr/share/" + name + "/new"] = "new";
    station.pack(name, "2-1", config, files);
    station.publish();
    station.hambrel({"refresh"});
    ASSERT_EQ(station.hambrel({"install", "-y", name + "=1"}).code, 0);
    fs::remove(station.root() / path(10));                             // what both versions have alike: deleted,
    write_file(station.root() / path(11), "mine");                     // edited,
    fs::permissions(station.root() / path(12), fs::perms::owner_all);  // with another mode
    write_file(station.root() / ("etc/" + name), "scale = 9\n");
    const auto before = station.files();
    const Ran ran = station.hambrel({"install", "-y", name + "=2"});
    EXPECT_EQ(ran.code, 0) << ran.err;
    for (const auto& [file, content] : files)
      EXPECT_EQ(read_file(station.root() / file), file.starts_with("etc/") ? "scale = 9\n" : content) << file;
    EXPECT_FALSE(fs::exists(station.root() / path(4)));
    EXPECT_EQ(station.hambrel({"verify", name, "--quiet"}).code, 0);
    std::string words = ran.out.substr(0, ran.out.find("Fetches"));
    for (std::size_t at = 0; (at = words.find(name, at)) != std::string::npos;) words.replace(at, name.size(), "maps");
    told.push_back(words.substr(words.find("/usr")));
    EXPECT_EQ(station.hambrel({"undo", "-y", std::to_string(told.size() * 3 - 1)}).code, 0);
    EXPECT_EQ(station.files(), before);
  }
  EXPECT_EQ(told.at(0), told.at(1));
  EXPECT_THAT(told.at(0), HasSubstr("/11"));
}

TEST_F(Change, EditedConfigurationStaysAndTheNewOneWaits) {
  station.hambrel({"install", "desk=1", "--yes"});
  write_file(station.root() / "etc/desk.toml", "lamps = 9\n");
  const Ran ran = station.hambrel({"upgrade", "--yes"});
  EXPECT_THAT(ran.out, HasSubstr("wait  /etc/desk.toml  desk  you edited it: your version stays, the new one waits"));
  EXPECT_EQ(read_file(station.root() / "etc/desk.toml"), "lamps = 9\n");
  EXPECT_EQ(read_file(station.root() / "var/lib/hambrel/configs/waiting/etc/desk.toml"), "lamps = 2\n");
  EXPECT_THAT(station.without_root(station.hambrel({"remove", "desk", "--yes"}).out),
              HasSubstr("/etc/desk.toml was edited and is kept; `hambrel remove --purge desk`"));
  EXPECT_EQ(read_file(station.root() / "etc/desk.toml"), "lamps = 9\n");
  station.hambrel({"undo", "3", "--yes"});
  station.hambrel({"undo", "2", "--yes"});
  EXPECT_EQ(read_file(station.root() / "etc/desk.toml"), "lamps = 9\n");
  EXPECT_FALSE(fs::exists(station.root() / "var/lib/hambrel/configs/waiting/etc/desk.toml"));
}

TEST_F(Change, PristineConfigurationFollowsThePackageAndGoesWithIt) {
  station.hambrel({"install", "desk=1", "--yes"});
  station.hambrel({"upgrade", "--yes"});
  EXPECT_EQ(read_file(station.root() / "etc/desk.toml"), "lamps = 2\n");
  station.hambrel({"remove", "desk", "--unneeded", "--yes"});
  EXPECT_FALSE(fs::exists(station.root() / "etc/desk.toml"));
  EXPECT_FALSE(fs::exists(station.root() / "usr"));
  EXPECT_EQ(station.installed(), "");
}

TEST_F(Change, AFileOfAnotherPackageIsRefusedAndOneOfNobodysGoesToTheAttic) {
  station.hambrel({"install", "desk=1", "--yes"});
  const auto before = station.files();
  const Ran refused = station.hambrel({"install", station.path("thief.hambrel").string(), "--yes", "--allow-unsigned"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_EQ(refused.err,
            "Refused: /usr/bin/desk: thief has this file, which belongs to desk\n  -> remove desk first, or leave out "
            "thief\n");
  EXPECT_EQ(station.files(), before);
  write_file(station.root() / "usr/bin/horn", "my own");
  const auto own = station.files();
  EXPECT_THAT(station.hambrel({"install", "horn", "--yes"}).out,
              HasSubstr("/usr/bin/horn is not owned by any package: it is moved to the attic, horn has its own"));
  EXPECT_EQ(read_file(station.root() / "usr/bin/horn"), "tut");
  station.hambrel({"undo", "2", "--yes"});
  EXPECT_EQ(station.files(), own);
}

TEST_F(Change, ForeignFilesKeepTheirDirectory) {
  station.hambrel({"install", "desk=1", "--yes"});
  write_file(station.root() / "usr/share/desk/notes", "by hand");
  const Ran ran = station.hambrel({"remove", "desk", "--yes"});
  EXPECT_THAT(ran.out, HasSubstr("note  /usr/share/desk stays: it contains files no package owns"));
  EXPECT_EQ(read_file(station.root() / "usr/share/desk/notes"), "by hand");
  EXPECT_FALSE(fs::exists(station.root() / "usr/share/desk/shape"));
  station.hambrel({"undo", "2", "--yes"});
  EXPECT_EQ(station.hambrel({"undo", "1", "--yes"}).code, 0);
  EXPECT_EQ(read_file(station.root() / "usr/share/desk/notes"), "by hand");
}

TEST_F(Change, ARefusalNamesTheClashAndChangesNothing) {
  station.hambrel({"install", "desk=1", "horn", "--yes"});
  const auto before = station.files();
  const Ran ran = station.hambrel({"install", "desk>=2", "--yes"});
  EXPECT_EQ(ran.code, 3);
  EXPECT_EQ(ran.err,
            "Refused: this conflicts with what is installed and wanted:\n  desk>=2 was asked for\n  horn "
            "1-1 is installed and wanted\n"
            "  horn 1-1 conflicts with desk >= 2: desk 2-1\n\nRemedy (tried out):\n"
            "  1  hambrel --root " +
                station.root().string() +
                " change --install 'desk>=2' --remove horn\n     removes horn (wanted); upgrades 2; "
                "disk use +2 B\n");
  EXPECT_EQ(station.files(), before);
  const Ran upgrade = station.hambrel({"upgrade", "-y"});
  EXPECT_THAT(upgrade.out, HasSubstr("2 packages are held back: horn 1-1 (wanted) conflicts with desk 2-1; without "
                                     "that 2 could be upgraded\n        desk, lib"));
}

TEST(ChangeByPattern, ARefusalOfHundredsOfNamesIsReadAtAGlance) {
  Station station;
  for (int i = 0; i < 60; ++i)
    station.pack("lens" + std::to_string(i), "1-1", "[relations]\nprovides = [\"glass\"]\n", {});
  station.pack("lamp", "1-1", "[relations]\nrequires = [\"glass\"]\n", {});
  station.open();
  ASSERT_EQ(station.hambrel({"install", "lamp", "lens*", "-y"}).code, 0);
  const Ran ran = station.hambrel({"remove", "lens*", "-y"});
  EXPECT_EQ(ran.code, 3);
  EXPECT_THAT(ran.err, HasSubstr("you asked to remove lens0, lens1, lens10, lens11, lens12, lens13 and 54 more\n"));
  EXPECT_THAT(ran.err, testing::Not(HasSubstr("lens20")));
  EXPECT_THAT(ran.err, HasSubstr(" more words (all of it with --json)\n"));
  EXPECT_THAT(ran.err, HasSubstr("; disk use"));
  const auto document = station.json({"remove", "lens*", "-y"});
  EXPECT_EQ(document.at("causes").size(), 62U);
  const std::string command = document.at("remedies").at(1).at("command");
  EXPECT_THAT(command, HasSubstr(" lens9"));
  EXPECT_EQ(std::count(command.begin(), command.end(), ' '), 62);
}

TEST_F(Change, ARemedyIsTakenByItsNumber) {
  station.hambrel({"install", "desk=1", "horn", "--yes"});
  const Ran ran = station.on_terminal("1|yes", {"install", "desk=2"});
  EXPECT_EQ(ran.code, 0) << ran.out;
  EXPECT_THAT(ran.out, HasSubstr("Use this remedy? (yes or no)"));
  EXPECT_EQ(station.installed(), "desk 2-1, lib 2-1");
  EXPECT_EQ(station.json({"ledger", "show", "2"})["kind"], "change");
}

TEST_F(Change, SeveralChangesAreOneTransaction) {
  station.hambrel({"install", "desk=1", "horn", "--yes"});
  EXPECT_EQ(station.hambrel({"change", "--install", "desk", "--remove", "horn", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "desk 2-1, lib 2-1");
  EXPECT_EQ(station.hambrel({"change", "-y"}).code, 2);
  EXPECT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "desk 1-1, horn 1-1, lib 1-1");
}

TEST_F(Change, WhyAndTheTreesTellTheReasons) {
  station.hambrel({"install", "desk=1", "--yes"});
  EXPECT_EQ(station.hambrel({"why", "lib"}).out, "desk 1-1  wanted\n  lib 1-1  requires lib = 1\n");
  EXPECT_EQ(station.hambrel({"needs", "desk"}).out, "desk 1-1  wanted\n  lib 1-1  requires lib = 1\n");
  EXPECT_EQ(station.hambrel({"needed-by", "lib"}).out, "lib 1-1\n  desk 1-1  requires lib = 1  wanted\n");
  EXPECT_THAT(station.hambrel({"why", "horn"}).out, HasSubstr("nothing prevents it"));
  EXPECT_EQ(station.hambrel({"needed-by", "horn"}).code, 3);
  station.hambrel({"install", "horn", "--yes"});
  EXPECT_THAT(station.hambrel({"why", "desk>=2"}).err, HasSubstr("horn 1-1 conflicts with desk >= 2: desk 2-1"));
}

TEST_F(Change, LaterTransactionsStandInTheWayOfAnUndo) {
  station.hambrel({"install", "lib=1", "--yes"});
  station.hambrel({"install", "desk=1", "--yes"});
  const Ran ran = station.hambrel({"undo", "1", "--yes"});
  EXPECT_EQ(ran.code, 3);
  EXPECT_THAT(ran.err, HasSubstr("transaction 1: undoing it would break later changes: desk 1-1 requires lib = 1"));
  station.hambrel({"upgrade", "--yes"});
  EXPECT_THAT(station.hambrel({"undo", "2", "--yes"}).err, HasSubstr("desk was changed again by transaction 3"));
  EXPECT_EQ(station.hambrel({"undo", "7", "--yes"}).code, 1);
}

TEST_F(Change, WithoutATerminalNothingIsAskedAndNothingDone) {
  const auto before = tree(station.root());
  const Ran ran = station.hambrel({"install", "desk"});
  EXPECT_EQ(ran.code, 4);
  EXPECT_EQ(ran.err,
            "Cancelled: there is no terminal to ask on\n  -> add --yes to do it, or --dry-run to see the plan\n");
  const Ran dry = station.hambrel({"install", "desk", "--dry-run"});
  EXPECT_EQ(dry.code, 0);
  EXPECT_THAT(dry.out, HasSubstr("2 packages will be installed.  in "));
  EXPECT_EQ(tree(station.root()), before);
}

TEST_F(Change, OnATerminalAYesIsNeeded) {
  const Ran no = station.on_terminal("no", {"--color", "never", "install", "lib=1"});
  EXPECT_EQ(no.code, 4);
  EXPECT_THAT(no.out, HasSubstr("Continue? (yes, no or only download)\n> "));
  EXPECT_EQ(station.installed(), "");
  EXPECT_EQ(station.on_terminal("yes", {"install", "lib=1"}).code, 0);
  EXPECT_EQ(station.installed(), "lib 1-1");
}

TEST_F(Change, OwnersComeFromTheRootsOwnNamesAndUnknownOnesAreRefused) {
  if (geteuid() != 0) GTEST_SKIP() << "only root can give files away";
  station.pack("gauge", "1-1",
               "[[attributes]]\nfiles = \"usr/bin/*\"\nuser = \"tide\"\ngroup = \"harbour\"\nmode = \"6750\"\n",
               {{"usr/bin/gauge", "g"}}, station.path("gauge.hambrel").string());
  const Ran refused = station.hambrel({"install", station.path("gauge.hambrel").string(), "--yes", "--allow-unsigned"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err,
              HasSubstr("/usr/bin/gauge: gauge needs the user \"tide\", which does not exist in this root"));
  write_file(station.root() / "etc/passwd", "tide:x:4711:4712::/:/bin/sh\n");
  write_file(station.root() / "etc/group", "harbour:x:4713:\n");
  EXPECT_EQ(station.hambrel({"install", station.path("gauge.hambrel").string(), "--yes", "--allow-unsigned"}).code, 0);
  struct ::stat info {};
  ::stat((station.root() / "usr/bin/gauge").c_str(), &info);
  EXPECT_EQ(info.st_uid, 4711U);
  EXPECT_EQ(info.st_gid, 4713U);
  EXPECT_EQ(info.st_mode & 07777U, 06750U);
}

TEST_F(Change, TheLedgerTellsWhatWasDoneAndWhatFailed) {
  station.hambrel({"install", "desk=1", "--yes", "--reason", "new desk"});
  fs::remove_all(station.repository() / "packages/horn");
  EXPECT_EQ(station.hambrel({"install", "horn", "--yes"}).code, 1);
  const auto first = station.json({"ledger", "show", "1"});
  EXPECT_EQ(first["reason"], "new desk");
  EXPECT_EQ(first["changes"].size(), 2U);
  EXPECT_EQ(first["plan"]["steps"][0]["why"]["text"], "desk requires lib = 1");
}

}  // namespace hambrel::test
