// Channels that single packages follow: chosen, undone, kept, and what comes with them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

namespace {

using testing::HasSubstr;
using testing::Not;

class Following : public testing::Test {
 protected:
  Following() {
    write_file(station.repository() / "repository.toml",
               "[[channel]]\nname = \"beta\"\npackages = [\"lamp >= 2\", \"horn >= 3\"]\n");
    for (const char* version : {"1-1", "2-1"}) station.pack("lamp", version, "", {{"usr/bin/lamp", version}});
    station.pack("horn", "1-1", "", {{"usr/bin/horn", "1"}});
    station.open();
    EXPECT_EQ(station.hambrel({"install", "lamp", "horn", "-y"}).code, 0);
  }
  std::string followed(const std::string& name) const {
    const std::string text = station.hambrel({"describe", name}).out;
    const auto at = text.find("follows");
    return at == std::string::npos ? "" : text.substr(at + 12, text.find('\n', at) - at - 12);
  }
  Station station;
};

TEST_F(Following, IsATransactionThatUpgradesHeedAndThatIsUndone) {
  EXPECT_THAT(station.hambrel({"upgrade", "-n"}).out, HasSubstr("Nothing to do"));
  const Ran ran = station.hambrel({"follow", "lamp", "beta", "-y", "--reason", "trying it"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("lamp  beta instead of the channels of its repository"));
  EXPECT_THAT(ran.err, HasSubstr("lamp: beta has 2-1, newer than the installed 1-1; --now changes to it"));
  EXPECT_EQ(station.installed(), "horn 1-1, lamp 1-1");
  EXPECT_THAT(followed("lamp"), HasSubstr("beta"));
  EXPECT_THAT(station.hambrel({"ledger", "show", "last"}).out, HasSubstr("lamp  beta instead of"));
  EXPECT_THAT(station.hambrel({"follow", "lamp", "beta", "-y"}).out, HasSubstr("othing to do"));
  EXPECT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "horn 1-1, lamp 2-1");
  EXPECT_EQ(station.hambrel({"undo", "last", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  EXPECT_EQ(followed("lamp"), "");
  EXPECT_THAT(station.hambrel({"upgrade", "-n"}).out, HasSubstr("Nothing to do"));
  EXPECT_EQ(station.hambrel({"redo", "2", "-y"}).code, 0);
  EXPECT_THAT(followed("lamp"), HasSubstr("beta"));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Following, TheVersionOfTheChannelComesAtOnceInBothDirections) {
  EXPECT_EQ(station.hambrel({"unwant", "lamp", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"follow", "lamp", "beta", "--now", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "horn 1-1, lamp 2-1");
  const Ran told = station.hambrel({"follow", "lamp", "--default", "-n"});
  EXPECT_THAT(told.err, HasSubstr("older than the installed 2-1"));
  EXPECT_THAT(told.out, Not(HasSubstr("downgrade  lamp")));
  const Ran back = station.hambrel({"follow", "lamp", "--default", "--now", "-y"});
  EXPECT_THAT(back.out, HasSubstr("downgrade  lamp"));
  EXPECT_EQ(station.installed(), "horn 1-1, lamp 1-1");
  EXPECT_EQ(station.json({"describe", "lamp"})["reason"], "pulled-in") << "why it is there stays";
  EXPECT_EQ(followed("lamp"), "");
  EXPECT_EQ(station.hambrel({"rollback", "3", "-y"}).code, 0) << "over the way back";
  EXPECT_EQ(station.installed(), "horn 1-1, lamp 2-1");
  EXPECT_THAT(followed("lamp"), HasSubstr("beta"));
  EXPECT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0) << "over several";
  EXPECT_EQ(followed("lamp"), "");
}

TEST_F(Following, AnInstallFromAChannelFollowsItWhereThatIsSaid) {
  const Ran silent = station.hambrel({"install", "lamp@beta", "-y"});
  EXPECT_THAT(silent.out, HasSubstr("lamp does not follow beta"));
  EXPECT_EQ(followed("lamp"), "");
  EXPECT_EQ(station.hambrel({"undo", "last", "-y"}).code, 0);
  const Ran ran = station.hambrel({"install", "lamp@beta", "--follow", "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(station.installed(), "horn 1-1, lamp 2-1");
  EXPECT_THAT(followed("lamp"), HasSubstr("beta"));
  EXPECT_THAT(station.hambrel({"install", "lamp@beta", "-y"}).out, Not(HasSubstr("does not follow")));
  write_file(station.path("list"), "follow lamp default\nremove horn\n");
  const auto plan = station.json({"change", station.path("list").string(), "-y"})["plan"];
  EXPECT_EQ(plan["follows"], nlohmann::json::parse(R"([{"name": "lamp", "before": "beta", "after": null}])"));
  EXPECT_EQ(station.installed(), "lamp 2-1");
  EXPECT_EQ(followed("lamp"), "");
}

TEST_F(Following, WhatCannotBeIsRefusedWithTheReason) {
  const Ran none = station.hambrel({"follow", "horn", "beta", "-y"});
  EXPECT_EQ(none.code, 3);
  EXPECT_THAT(none.err, HasSubstr("no repository has horn in channel beta"));
  EXPECT_THAT(none.err, HasSubstr("it is in: stable"));
  EXPECT_EQ(station.hambrel({"follow", "lamp", "-y"}).code, 2);
  EXPECT_EQ(station.hambrel({"follow", "lump", "beta", "-y"}).code, 3);
  EXPECT_EQ(station.hambrel({"follow", "lamp=2", "beta", "-y"}).code, 2);
  EXPECT_EQ(station.hambrel({"follow", "lamp", "beta", "--now", "--later", "-y"}).code, 2);
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[follow]\nlamp = \"stable\"\n");
  const Ran written = station.hambrel({"follow", "lamp", "beta", "-y"});
  EXPECT_EQ(written.code, 3);
  EXPECT_THAT(written.err, HasSubstr("hambrel.toml has lamp follow stable"));
}

TEST_F(Following, ASavedPlanFollowsToo) {
  const std::string plan = station.path("night.plan");
  EXPECT_EQ(station.hambrel({"follow", "lamp", "beta", "--now", "--save", plan}).code, 0);
  EXPECT_EQ(followed("lamp"), "");
  const Ran ran = station.hambrel({"apply", plan, "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(station.installed(), "horn 1-1, lamp 2-1");
  EXPECT_THAT(followed("lamp"), HasSubstr("beta"));
}

}  // namespace

}  // namespace hambrel::test
