// Packages that the system needs: they go only where each is named for that.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;
using testing::Not;

class Protection : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("keel", "1-1", "essential = true\n", {{"usr/keel", "1"}});
    station.pack("keel", "2-1", "essential = true\n", {{"usr/keel", "2"}});
    station.pack("mast", "1-1", "[relations]\nrequires = [\"keel\"]\n", {{"usr/mast", "1"}});
    station.pack("raft", "1-1", "[relations]\nconflicts = [\"keel\"]\n", {{"usr/raft", "1"}});
    station.pack("hull", "1-1", "[relations]\nreplaces = [\"keel\"]\nconflicts = [\"keel\"]\n", {{"usr/hull", "1"}});
    station.open();
    // pulled in, so that nothing but its own word keeps it
    ASSERT_EQ(station.hambrel({"install", "keel=1", "-y"}).code, 0);
    ASSERT_EQ(station.hambrel({"unwant", "keel", "-y"}).code, 0);
  }
  /// Refused with and without --yes, whatever else is named, and nothing changes.
  void refused(std::vector<std::string> words, const std::string& what) {
    SCOPED_TRACE(words[0]);
    const auto before = station.files();
    const std::string installed = station.installed();
    words.emplace_back("-y");
    for (const bool another : {false, true}) {
      if (another) words.insert(words.end(), {"--allow-essential", "mast"});
      const Ran ran = station.hambrel(words);
      EXPECT_EQ(ran.code, 3) << ran.out << ran.err;
      EXPECT_THAT(ran.out + ran.err, HasSubstr(what));
      EXPECT_THAT(ran.out + ran.err, HasSubstr("--allow-essential keel"));
    }
    EXPECT_EQ(station.files(), before);
    EXPECT_EQ(station.installed(), installed);
  }
  Station station;
};

TEST_F(Protection, WhatIsEssentialGoesOnlyWhereItIsNamed) {
  refused({"install", "raft"}, "keel 1-1 is essential");
  refused({"install", "hull"}, "keel 1-1 is essential");
  refused({"undo", "1"}, "keel is essential, and this would remove it");
  ASSERT_EQ(station.hambrel({"install", "mast", "-y"}).code, 0);
  refused({"remove", "keel", "mast"}, "keel is essential, and this would remove it");
  refused({"remove", "--unneeded", "--purge", "keel"}, "keel is essential, and this would remove it");
  refused({"shelve", "keel", "mast"}, "keel is essential, and this would shelve it");
  EXPECT_EQ(station.hambrel({"upgrade", "-y"}).code, 0) << "newer is no loss";
  EXPECT_EQ(station.installed(), "keel 2-1, mast 1-1");
  refused({"downgrade", "keel=1"}, "keel 2-1 is essential");
  refused({"undo", "4"}, "keel is essential, and this would downgrade it");
  refused({"rollback", "1"}, "keel is essential, and this would downgrade it");
  EXPECT_EQ(station.hambrel({"downgrade", "keel=1", "-y", "--allow-essential", "keel"}).code, 0);
  EXPECT_EQ(station.hambrel({"remove", "keel", "mast", "-y", "--allow-essential", "keel"}).code, 0);
  EXPECT_EQ(station.installed(), "");
  EXPECT_EQ(station.hambrel({"undo", "6", "-y"}).code, 0) << "coming back is no loss either";
}

TEST_F(Protection, NothingElseTakesItAway) {
  ASSERT_EQ(station.hambrel({"install", "mast", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"remove", "--unneeded", "mast", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "keel 1-1") << "nothing wants it, and it stays";
  EXPECT_THAT(station.hambrel({"tidy", "unneeded", "-n"}).out, Not(HasSubstr("keel")));
  const Ran ran = station.hambrel({"install", "raft", "-n"});
  EXPECT_THAT(ran.out + ran.err, Not(HasSubstr("hambrel change"))) << "no remedy takes it away";
  EXPECT_THAT(station.hambrel({"describe", "keel"}).out, HasSubstr("removed only with --allow-essential keel"));
}

TEST_F(Protection, TheSettingsProtectWhateverTheyName) {
  ASSERT_EQ(station.hambrel({"install", "mast", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"remove", "mast", "-n"}).code, 0);
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[protect]\nnames = [\"mast\"]\n");
  const Ran ran = station.hambrel({"remove", "mast", "-y"});
  EXPECT_EQ(ran.code, 3);
  EXPECT_THAT(ran.err, HasSubstr("mast is essential, and this would remove it"));
  EXPECT_EQ(station.hambrel({"remove", "mast", "-y", "--allow-essential", "mast"}).code, 0);
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[protect]\nnames = [\"no name\"]\n");
  EXPECT_THAT(station.hambrel({"list"}).err, HasSubstr("\"no name\" is not a package name"));
}

TEST(Licenses, WhatIsRefusedIsChosenByNobody) {
  Station station;
  station.pack("desk", "1-1", "[relations]\nrequires = [\"view | plain\"]\n", {{"usr/bin/desk", "d"}});
  station.pack("view", "1-1", "license = \"AGPL-3.0-only\"\n", {{"usr/bin/view", "v"}});
  station.pack("plain", "1-1", "license = \"AGPL-3.0-only OR MIT\"\n", {{"usr/bin/plain", "p"}});
  station.pack("needy", "1-1", "[relations]\nrequires = [\"view\"]\n", {{"usr/bin/needy", "n"}});
  station.pack("lamp", "1-1", "license = \"MIT\"\n", {{"usr/bin/lamp", "1"}});
  station.pack("lamp", "2-1", "license = \"SSPL-1.0\"\n", {{"usr/bin/lamp", "2"}});
  station.open();
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[licenses]\nrefuse = [\"AGPL-*\", \"SSPL-1.0\"]\n");
  EXPECT_EQ(station.hambrel({"install", "desk", "lamp", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "desk 1-1, lamp 1-1, plain 1-1");
  EXPECT_THAT(station.hambrel({"upgrade", "-n"}).out, testing::HasSubstr("Nothing to do"));
  const Ran named = station.hambrel({"install", "view", "-y"});
  EXPECT_EQ(named.code, 3);
  EXPECT_THAT(named.err, testing::HasSubstr("view 1-1 is under AGPL-3.0-only, which hambrel.toml refuses"));
  const Ran needed = station.hambrel({"install", "needy", "-y"});
  EXPECT_EQ(needed.code, 3);
  EXPECT_THAT(needed.out + needed.err,
              testing::HasSubstr("view 1-1 is under AGPL-3.0-only, which hambrel.toml refuses"));
  EXPECT_EQ(station.hambrel({"install", "lamp=2", "-y"}).code, 3);
  EXPECT_EQ(station.installed(), "desk 1-1, lamp 1-1, plain 1-1");
}

}  // namespace hambrel::test
