// Groups of packages: installed and removed together, and kept up with what is added to them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

namespace {

class Groups : public testing::Test {
 protected:
  void SetUp() override {
    for (const char* name : {"lamp", "fog", "horn", "chart", "radio"})
      station.pack(name, "1-1", "", {{"usr/share/" + std::string(name), name}});
    write(R"("lamp", "fog", "group:charts")");
    station.open();
  }
  void write(const std::string& members) const {
    write_file(
        station.repository() / "groups.toml",
        "[[group]]\nname = \"signal-room\"\nsummary = \"a signal room\"\nmembers = [" + members +
            "]\noptional = [\"horn\"]\n\n[[group]]\nname = \"charts\"\nsummary = \"charts\"\nmembers = [\"chart\"]\n");
  }
  void publish() const {
    ASSERT_EQ(station.publish().code, 0);
    ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
  }
  Station station;
};

}  // namespace

TEST_F(Groups, ComeAndGoAsAWholeAndCanBeUndone) {
  const Ran installed = station.hambrel({"install", "group:signal-room", "-y"});
  EXPECT_EQ(installed.code, 0) << installed.err;
  EXPECT_THAT(installed.out, HasSubstr("group:signal-room requires fog"));
  EXPECT_EQ(station.installed(), "chart 1-1, fog 1-1, group:charts 1-1, group:signal-room 1-1, lamp 1-1");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  for (const auto& one : fs::recursive_directory_iterator(station.repository()))
    EXPECT_EQ(one.path().filename().string().find(':'), std::string::npos) << "a stick's file system may have none";
  ASSERT_EQ(station.hambrel({"want", "lamp", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"remove", "group:signal-room", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lamp 1-1") << "what is wanted for itself stays";
  ASSERT_EQ(station.hambrel({"undo", "last", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "chart 1-1, fog 1-1, group:charts 1-1, group:signal-room 1-1, lamp 1-1");
}

TEST_F(Groups, OptionalMembersComeWhereTheyAreAskedFor) {
  ASSERT_EQ(station.hambrel({"install", "group:signal-room", "--optional", "-y"}).code, 0);
  EXPECT_THAT(station.installed(), HasSubstr("horn 1-1"));
  const Ran shown = station.hambrel({"group", "describe", "signal-room"});
  EXPECT_THAT(shown.out, HasSubstr("installed, with optional members"));
  ASSERT_EQ(station.hambrel({"remove", "group:signal-room", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "");
}

TEST_F(Groups, AnUpgradeBringsMembersThatWereAddedSince) {
  ASSERT_EQ(station.hambrel({"install", "group:signal-room", "-y"}).code, 0);
  write(R"("lamp", "fog", "radio", "group:charts")");
  publish();
  const Ran ran = station.hambrel({"upgrade", "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("group:signal-room requires radio"));
  EXPECT_THAT(station.installed(), HasSubstr("radio 1-1"));
  const auto group = station.json({"group", "describe", "signal-room"});
  EXPECT_EQ(group["version"], "2-1");
  EXPECT_EQ(group["members"].size(), 5U);
}

TEST_F(Groups, OneMemberIsNotRemovedBehindTheGroupsBack) {
  ASSERT_EQ(station.hambrel({"install", "group:signal-room", "-y"}).code, 0);
  const Ran ran = station.hambrel({"remove", "fog", "-y"});
  EXPECT_EQ(ran.code, 3);
  EXPECT_THAT(station.without_root(ran.err), HasSubstr("hambrel remove fog group:signal-room"));
}

TEST_F(Groups, MistakesAreTold) {
  EXPECT_EQ(station.hambrel({"install", "group:signal", "-n"}).code, 3);
  EXPECT_THAT(station.hambrel({"group", "describe", "signal-rom"}).err, HasSubstr("did you mean signal-room?"));
  write("\"lamp\", \"radoi\"");
  const Ran member = station.publish();
  EXPECT_EQ(member.code, 1);
  EXPECT_THAT(member.err, HasSubstr("groups.toml:4: radoi is not in this repository"));
  EXPECT_THAT(member.err, HasSubstr("did you mean radio?"));
  // what is gone from the file is offered no more, and stays where it is installed
  ASSERT_EQ(station.hambrel({"install", "group:charts", "-y"}).code, 0);
  fs::remove(station.repository() / "groups.toml");
  publish();
  EXPECT_EQ(station.hambrel({"group", "list", "--json"}).out.find("signal-room"), std::string::npos);
  EXPECT_EQ(station.json({"group", "describe", "charts"})["installed"], true);
}

}  // namespace hambrel::test
