// Plans that are saved, and applied later.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;
using testing::Not;

namespace {

class Plans : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lamp", "1-1", config, {{"etc/lamp.conf", "a\nb\nc\n"}, {"usr/bin/lamp", "1"}});
    station.pack("lamp", "2-1", config, {{"etc/lamp.conf", "a\nb\nc\nd\n"}, {"usr/bin/lamp", "2"}});
    station.pack("fog", "1-1", "", {{"usr/bin/fog", "f"}});
    station.pack("desk", "1-1", "[relations]\nrequires = [\"fog\"]\n", {{"usr/bin/desk", "d"}});
    station.open();
    ASSERT_EQ(station.hambrel({"install", "lamp=1", "-y"}).code, 0);
  }
  Ran save(std::vector<std::string> words) const {
    words.insert(words.end(), {"--save", file});
    return station.hambrel(words);
  }
  Ran apply(std::vector<std::string> more = {"-y"}) const {
    more.insert(more.begin(), {"apply", file});
    return station.hambrel(more);
  }
  /// The plan as programs see it, but what there is to fetch.
  static nlohmann::json plan_in(const Ran& ran) {
    auto plan = nlohmann::json::parse(ran.out)["plan"];
    for (auto& step : plan["steps"]) step.erase("download");
    plan.erase("download");
    return plan;
  }
  const std::string config = "[config]\nfiles = [\"etc/lamp.conf\"]\n";
  Station station;
  const std::string file = station.path("night.plan").string();
};

}  // namespace

TEST_F(Plans, WhatWasSavedIsDoneExactlyWhateverTheRepositoryOffersSince) {
  const auto before = station.files();
  const Ran saved = save({"change", "--upgrade", "lamp", "--install", "desk", "--json"});
  EXPECT_EQ(saved.code, 0) << saved.err;
  EXPECT_EQ(station.files(), before);
  EXPECT_EQ(fs::status(file).permissions(), fs::perms::owner_read | fs::perms::owner_write);
  station.pack("lamp", "3-1", config, {{"etc/lamp.conf", "z\n"}, {"usr/bin/lamp", "3"}});
  station.pack("fog", "2-1", "", {{"usr/bin/fog", "ff"}});
  station.publish();
  ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
  const Ran shown = apply({"-n", "--json"});
  EXPECT_EQ(plan_in(shown), plan_in(saved)) << "reasons included";
  EXPECT_EQ(apply().code, 0);
  EXPECT_EQ(station.installed(), "desk 1-1, fog 1-1, lamp 2-1");
  EXPECT_EQ(station.json({"describe", "fog"})["reason"], "pulled-in");
  const Ran again = apply();
  EXPECT_EQ(again.code, 3);
  EXPECT_THAT(again.err, HasSubstr("the system has changed since: transaction 2 (change)"));
  EXPECT_THAT(station.without_root(again.err),
              HasSubstr("hambrel change --install desk --upgrade lamp --save " + file));
}

TEST_F(Plans, WithItsPackagesFetchedNoNetworkIsNeeded) {
  ASSERT_EQ(save({"install", "desk", "--download-only", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lamp 1-1");
  fs::rename(station.repository(), station.path("away"));
  const Ran ran = apply();
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(station.installed(), "desk 1-1, fog 1-1, lamp 1-1");
}

TEST_F(Plans, DecisionsAreSavedAndWhatNeedsANewOneIsTold) {
  write_file(station.root() / "etc/lamp.conf", "A\nb\nc\n");
  ASSERT_EQ(save({"upgrade", "--configs", "merge"}).code, 0);
  const Ran merged = apply();
  EXPECT_EQ(merged.code, 0) << merged.err;
  EXPECT_EQ(read_file(station.root() / "etc/lamp.conf"), "A\nb\nc\nd\n");
  ASSERT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  // edited after the plan was saved
  write_file(station.root() / "etc/lamp.conf", "a\nb\nc\n");
  ASSERT_EQ(save({"upgrade"}).code, 0);
  write_file(station.root() / "etc/lamp.conf", "mine\n");
  const Ran moved = apply();
  EXPECT_EQ(moved.code, 3);
  EXPECT_THAT(moved.err, HasSubstr("/etc/lamp.conf has changed since, and needs a decision"));
  EXPECT_EQ(station.installed(), "lamp 1-1");
}

TEST_F(Plans, WhatStandsInTheWayNowIsTold) {
  ASSERT_EQ(save({"install", "desk"}).code, 0);
  write_file(station.root() / "usr/bin/fog", "somebody's");
  const Ran ran = apply();
  EXPECT_EQ(ran.code, 3);
  EXPECT_THAT(ran.err, HasSubstr("usr/bin/fog"));
  EXPECT_EQ(station.installed(), "lamp 1-1");
}

TEST_F(Plans, APackageThatIsAnotherFileNowIsNotInstalled) {
  ASSERT_EQ(save({"install", "desk"}).code, 0);
  station.pack("fog", "1-1", "license = \"MIT\"\n", {{"usr/bin/fog", "other"}});
  station.publish();
  ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
  const Ran ran = apply();
  EXPECT_EQ(ran.code, 3);
  EXPECT_THAT(ran.err, HasSubstr("fog 1-1 is no longer available, or is a different file now"));
}

TEST_F(Plans, EveryChangingCommandSavesItsPlan) {
  ASSERT_EQ(station.hambrel({"install", "desk", "-y"}).code, 0);
  int transaction = 2;
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"hold", "lamp", "--until", "2090-01-31", "--reason", "the gauge"},
                                             {"release", "lamp"},
                                             {"unwant", "desk"},
                                             {"want", "desk"},
                                             {"shelve", "desk"},
                                             {"unshelve", "desk"},
                                             {"upgrade"},
                                             {"downgrade", "lamp=1", "--hold", "--reason", "it flickers"},
                                             {"undo", "10"},
                                             {"redo", "10"},
                                             {"rollback", "2"},
                                             {"remove", "desk", "--unneeded"}}) {
    const auto before = station.files();
    const Ran saved = save(words);
    ASSERT_EQ(saved.code, 0) << words[0] << saved.err;
    EXPECT_EQ(station.files(), before) << words[0];
    const Ran ran = apply();
    ASSERT_EQ(ran.code, 0) << words[0] << ran.err;
    EXPECT_THAT(ran.out, HasSubstr("Done as transaction " + std::to_string(++transaction))) << words[0];
  }
  EXPECT_EQ(station.installed(), "lamp 1-1");
}

TEST_F(Plans, AFileThatWasChangedOrIsNoneIsRefused) {
  ASSERT_EQ(save({"install", "desk"}).code, 0);
  std::string text = read_file(file);
  text.replace(text.find("\"desk\""), 6, "\"dusk\"");
  write_file(file, text);
  const Ran changed = apply();
  EXPECT_EQ(changed.code, 5);
  EXPECT_THAT(changed.err, HasSubstr("has changed since it was saved"));
  for (const char* const wrong : {"", "{", "[]", "{}", "{\"hambrel_plan\": 7}"}) {
    write_file(file, wrong);
    EXPECT_EQ(apply().code, 1) << wrong;
  }
  // that somebody else can write
  ASSERT_EQ(save({"install", "desk"}).code, 0);
  fs::permissions(file, fs::perms(0666));
  const Ran open_to_all = apply();
  EXPECT_EQ(open_to_all.code, 5);
  EXPECT_THAT(open_to_all.err, HasSubstr("could have been written by someone else"));
  // of another system: the same number of transactions, another ledger
  ASSERT_EQ(save({"install", "desk"}).code, 0);
  Station other;
  other.pack("desk", "1-1", "", {{"usr/bin/desk", "d"}});
  other.open();
  ASSERT_EQ(other.hambrel({"install", "desk", "-y"}).code, 0);
  const Ran elsewhere = other.hambrel({"apply", file, "-y"});
  EXPECT_EQ(elsewhere.code, 3);
  EXPECT_THAT(elsewhere.err, HasSubstr("this is not the system that it was made for"));
}

TEST_F(Plans, AFileOfLinesIsOneTransaction) {
  const std::string lines = station.path("winter.changes").string();
  write_file(lines,
             "# for the winter\n\ninstall desk\nupgrade lamp   # at last\nhold lamp until 2090-01-31 because the "
             "gauge needs it\n\thold fog\n");
  const Ran failed = station.hambrel({"change", lines, "-y"});
  EXPECT_EQ(failed.code, 3) << "fog is not installed: " << failed.out;
  write_file(lines,
             "install desk fog\nupgrade lamp\nhold lamp until 2090-01-31 because the gauge needs it\nhold fog\n");
  const Ran ran = station.hambrel({"change", lines, "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(station.installed(), "desk 1-1, fog 1-1, lamp 2-1");
  const std::string held = station.hambrel({"list", "held"}).out;
  EXPECT_THAT(held, HasSubstr("until 2090-01-31: the gauge needs it"));
  EXPECT_THAT(held, HasSubstr("fog"));
  ASSERT_EQ(station.hambrel({"undo", "last", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lamp 1-1");
  EXPECT_EQ(station.hambrel({"list", "held", "--json"}).out, "");
  // by way of a saved plan it is the same
  ASSERT_EQ(station.hambrel({"change", lines, "--save", file}).code, 0);
  ASSERT_EQ(apply().code, 0);
  EXPECT_EQ(station.hambrel({"list", "held"}).out.find("until 2090-01-31: the gauge needs it") == std::string::npos,
            false);
  const Ran released = run({"/bin/sh", "-c",
                            "printf 'release lamp fog\\nremove desk\\nunwant fog\\n' | " HAMBREL_PROGRAM " --root " +
                                station.root().string() + " change - -y"});
  EXPECT_EQ(released.code, 0) << released.err;
  EXPECT_EQ(station.installed(), "fog 1-1, lamp 2-1");
  EXPECT_EQ(station.hambrel({"list", "held", "--json"}).out, "");
  EXPECT_EQ(station.json({"describe", "fog"})["reason"], "pulled-in");
  ASSERT_EQ(station.hambrel({"undo", "last", "-y"}).code, 0);
  EXPECT_EQ(station.json({"describe", "fog"})["reason"], "wanted");
  EXPECT_THAT(station.hambrel({"list", "held"}).out, HasSubstr("fog"));
  for (const auto& [text, says] : std::vector<std::pair<std::string, std::string>>{
           {"instal lamp\n", ":1: \"instal\" is not a change"},
           {"install lamp\nhold lamp until tomorrow\n", ":2: until must be followed by a date"},
           {"remove\n", ":1: remove needs a package"},
           {"install Lamp\n", ":1: "},
           {"remove lamp\npurge fog\n", "remove and purge"},
           {"# nothing\n", "has no changes in it"}}) {
    write_file(lines, text);
    const Ran wrong = station.hambrel({"change", lines, "-y"});
    EXPECT_EQ(wrong.code, 2) << text;
    EXPECT_THAT(wrong.err, HasSubstr(says)) << text;
  }
}

}  // namespace hambrel::test
