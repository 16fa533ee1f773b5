// What only happens on a terminal: long plans fold, the consent has more answers, long output is paged.
#include <gmock/gmock.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;
using testing::Not;

class OnTerminal : public testing::Test {
 protected:
  void SetUp() override {
    std::string requires_all;
    for (int i = 1; i <= 14; ++i) {
      const std::string name = "part-" + std::to_string(i);
      station.pack(name, "1-1", "", {{"usr/share/" + name, name}});
      requires_all += (i == 1 ? "\"" : ", \"") + name + "\"";
    }
    station.pack("engine", "1-1", "[relations]\nrequires = [" + requires_all + "]\n", {{"usr/bin/engine", "e"}});
    station.pack("bell", "1-1", "", {{"usr/bin/bell", "b"}});
    station.open();
  }
  Station station;
  const std::map<std::string, std::string> unpaged{{"PAGER", ""}};
};

TEST_F(OnTerminal, ALongPlanNamesWhatComesAlongAndShowsEachLineWhenAsked) {
  const Ran ran = station.on_terminal("details|no", {"install", "engine"}, unpaged);
  EXPECT_EQ(ran.code, 4);
  const std::size_t asked = ran.out.find("Continue? (yes, no, details or only download)");
  ASSERT_NE(asked, std::string::npos) << ran.out;
  const std::string before = ran.out.substr(0, asked), after = ran.out.substr(asked);
  EXPECT_THAT(before, HasSubstr("install  engine  1-1  asked for"));
  EXPECT_THAT(before, HasSubstr("install  14 packages, "));
  EXPECT_THAT(before, HasSubstr("    part-1, part-10, part-11,"));
  EXPECT_THAT(before, Not(HasSubstr("engine requires part-9")));
  EXPECT_THAT(after, HasSubstr("engine requires part-9"));
  EXPECT_THAT(after, HasSubstr("Cancelled: nothing was changed"));
  EXPECT_THAT(station.hambrel({"install", "engine", "-n"}).out, HasSubstr("engine requires part-9"))
      << "elsewhere each line is there";
}

TEST_F(OnTerminal, OnlyDownloadFillsTheCacheAndStops) {
  const Ran ran = station.on_terminal("o", {"install", "bell"}, unpaged);
  EXPECT_EQ(ran.code, 0) << ran.out;
  EXPECT_THAT(ran.out, HasSubstr("into the cache; nothing else was changed."));
  EXPECT_EQ(station.installed(), "");
  EXPECT_TRUE(fs::exists(station.root() / "var/cache/hambrel/packages/bell/1-1.independent.hambrel"));
}

TEST_F(OnTerminal, WhatDoesNotFitIsPaged) {
  const std::map<std::string, std::string> pager{{"PAGER", "sed 's/^/paged: /'"}};
  EXPECT_THAT(station.on_terminal("", {"help"}, pager).out, HasSubstr("paged: hambrel installs"));
  EXPECT_THAT(station.on_terminal("", {"help", "--no-pager"}, pager).out, Not(HasSubstr("paged: ")));
  EXPECT_THAT(station.on_terminal("", {"list", "available"}, pager).out, Not(HasSubstr("paged: "))) << "it fits";
  EXPECT_THAT(station.hambrel({"help"}, pager).out, Not(HasSubstr("paged: "))) << "it is no terminal";
  EXPECT_THAT(station.on_terminal("", {"help"}, {{"PAGER", "/no/such/pager"}}).out, HasSubstr("hambrel installs"));
}

TEST_F(OnTerminal, OtherUpgradesAreToldInALine) {
  station.hambrel({"install", "part-1", "part-2", "-y"});
  for (const char* const name : {"part-1", "part-2"})
    station.pack(name, "2-1", "", {{"usr/share/" + std::string(name), "n"}});
  station.publish();
  station.hambrel({"refresh"});
  EXPECT_THAT(station.on_terminal("no", {"install", "bell"}, unpaged).out,
              HasSubstr("2 other upgrades are available: `"));
}

}  // namespace hambrel::test
