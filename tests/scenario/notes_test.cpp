// What a repository tells beside its packages: advisories and news, from publish to what people see.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

namespace {

using testing::HasSubstr;
using testing::Not;

class Notes : public testing::Test {
 protected:
  Notes() {
    station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "1"}});
    station.pack("horn", "1-1", "", {{"usr/bin/horn", "1"}});
    station.open();
    EXPECT_EQ(station.hambrel({"install", "lamp", "horn", "-y"}).code, 0);
  }
  void advise(const std::string& id, const std::string& name, const std::string& events) const {
    write_file(station.repository() / "advisories" / (id + ".json"),
               R"({"id": ")" + id + R"(", "modified": "2026-11-01T00:00:00Z", "summary": "strangers can switch it on",
                   "database_specific": {"severity": "HIGH"},
                   "affected": [{"package": {"ecosystem": "Hambrel", "name": ")" +
                   name + R"("}, "ranges": [{"type": "ECOSYSTEM", "events": [)" + events + "]}]}]}");
  }
  Station station;
};

TEST_F(Notes, ARefreshSaysWhatIsNewAndWhichUpgradesFixSomething) {
  station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "2"}});
  station.pack("gull", "1-1", "", {{"usr/bin/gull", "1"}});
  advise("SKERRY-1", "lamp", R"({"introduced": "0"}, {"fixed": "2-1"})");
  advise("SKERRY-2", "horn", R"({"introduced": "0"})");
  write_file(station.repository() / "news.toml",
             "[[news]]\ndate = \"2026-11-20\"\ntitle = \"Winter hours\"\ntext = \"The office opens at nine.\"\n");
  EXPECT_EQ(station.publish().code, 0);
  const Ran ran = station.hambrel({"refresh"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("Since the last refresh: 1 new package (gull), 1 newer version (lamp 2-1)."));
  EXPECT_THAT(ran.out, HasSubstr("News of base, 2026-11-20: Winter hours\n  The office opens at nine."));
  EXPECT_THAT(ran.out, HasSubstr("security lamp 1-1 -> 2-1: SKERRY-1 (high): strangers can switch it on"));
  EXPECT_THAT(ran.out, HasSubstr("security horn 1-1 no fix is offered: SKERRY-2"));
  EXPECT_THAT(ran.out, HasSubstr("1 installed package can be upgraded, 1 of them for security"));
  const Ran again = station.hambrel({"refresh"});
  EXPECT_THAT(again.out, Not(HasSubstr("News of"))) << "it was read";
  EXPECT_THAT(again.out, Not(HasSubstr("Since the last")));
  EXPECT_THAT(again.out, HasSubstr("security lamp"));
  const Ran quiet = station.hambrel({"refresh", "--quiet"});
  EXPECT_THAT(quiet.out, HasSubstr("security lamp")) << "for the mail of a timer";
  EXPECT_THAT(quiet.out, Not(HasSubstr("can be upgraded")));
  const auto listed =
      nlohmann::json::parse(station.hambrel({"list", "vulnerable", "--json"})
                                .out.substr(0, station.hambrel({"list", "vulnerable", "--json"}).out.find('\n')));
  EXPECT_EQ(listed["name"], "horn");
  EXPECT_EQ(listed["fixed_by"], nullptr);
  EXPECT_THAT(station.hambrel({"upgrade", "-y"}).err + station.hambrel({"ledger"}).out, HasSubstr("lamp"));
  EXPECT_THAT(station.hambrel({"list", "vulnerable"}).out, Not(HasSubstr("lamp")));
}

TEST_F(Notes, APlanSaysWhatItFixesAndWhatItBrings) {
  station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "2"}});
  advise("SKERRY-1", "lamp", R"({"introduced": "0"}, {"fixed": "2-1"})");
  EXPECT_EQ(station.publish().code, 0);
  station.hambrel({"refresh"});
  const Ran up = station.hambrel({"upgrade", "-y"});
  EXPECT_THAT(up.out + up.err, HasSubstr("lamp 2-1 fixes SKERRY-1 (high): strangers can switch it on"));
  const Ran down = station.hambrel({"downgrade", "lamp=1", "-n"});
  EXPECT_THAT(down.out + down.err, HasSubstr("lamp 1-1 has a known security problem, SKERRY-1"));
}

TEST_F(Notes, NothingInThemReachesTheTerminal) {
  station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "2"}});
  write_file(station.repository() / "advisories/S.json",
             R"({"id": "S\u001b[2J", "modified": "x", "summary": "a\u001b]0;b\u0007", "affected": [
                 {"package": {"ecosystem": "Hambrel", "name": "lamp"}, "versions": ["1-1"]}]})");
  write_file(station.repository() / "news.toml",
             "[[news]]\ndate = \"2026-11-20\"\ntitle = \"t\\u001b[2J\"\ntext = \"x\\u001b[31m\"\n");
  EXPECT_EQ(station.publish().code, 0);
  std::string shown;
  for (const auto& words : std::vector<std::vector<std::string>>{
           {"refresh"}, {"list", "vulnerable"}, {"upgrade", "-n"}, {"upgrade", "-y"}, {"ledger", "show", "last"}}) {
    const Ran ran = station.hambrel(words);
    shown += ran.out + ran.err;
  }
  EXPECT_THAT(shown, HasSubstr("News of base"));
  EXPECT_THAT(shown, HasSubstr("fixes S"));
  EXPECT_EQ(shown.find('\x1b'), std::string::npos);
  EXPECT_EQ(shown.find('\x07'), std::string::npos);
}

TEST_F(Notes, TheyAreSignedFilesOfTheIndexAndAreHealedInTheCache) {
  advise("SKERRY-2", "horn", R"({"introduced": "0"})");
  EXPECT_EQ(station.publish().code, 0);
  EXPECT_THAT(station.publish().out, HasSubstr("is up to date"));
  const std::string targets = read_file(station.repository() / "trust/2.targets.json");
  EXPECT_THAT(targets, HasSubstr("index/advisories-2.json"));
  station.hambrel({"refresh"});
  const auto cached = [&](const char* end) {
    for (const auto& one : fs::directory_iterator(station.root() / "var/cache/hambrel/index/base"))
      if (one.path().string().ends_with(end)) return one.path();
    return fs::path("missing");
  };
  std::string by_package = read_file(cached(".advisories.image"));
  by_package[by_package.find("SKERRY-2") + 7] = '3';
  write_file(cached(".advisories.image"), by_package);
  EXPECT_THAT(station.hambrel({"list", "vulnerable"}).out, HasSubstr("SKERRY-2"));
  write_file(cached(".note.json"), "[]");
  const Ran damaged = station.hambrel({"list", "vulnerable"});
  EXPECT_THAT(damaged.err, HasSubstr("is damaged in the cache"));
  write_file(station.repository() / "news.toml", "[[news]]\ndate = \"2026-11-20\"\ntitle = \"t\"\n");
  EXPECT_EQ(station.publish().code, 0);
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
  EXPECT_THAT(station.hambrel({"list", "vulnerable"}).out, HasSubstr("SKERRY-2"));
  // what was lost on the server is a failure of the refresh, and what is known stays
  advise("SKERRY-3", "horn", R"({"introduced": "0"})");
  EXPECT_EQ(station.publish().code, 0);
  for (const auto& one : fs::directory_iterator(station.repository() / "index"))
    if (one.path().string().find("advisories") != std::string::npos) fs::remove(one.path());
  const Ran lost = station.hambrel({"refresh"});
  EXPECT_NE(lost.code, 0);
  EXPECT_THAT(station.hambrel({"list", "vulnerable"}).out, HasSubstr("SKERRY-2"));
}

TEST_F(Notes, WhatIsWrongIsToldBeforeAnythingIsPublished) {
  const auto timestamp = read_file(station.repository() / "trust/timestamp.json");
  advise("SKERRY-9", "horn", R"({"fixed": "no version"})");
  const Ran bad = station.publish();
  EXPECT_EQ(bad.code, 1) << bad.err;
  EXPECT_THAT(bad.err, HasSubstr("advisories/SKERRY-9.json"));
  fs::remove_all(station.repository() / "advisories");
  write_file(station.repository() / "news.toml", "[[news]]\ndate = \"tomorrow\"\ntitle = \"t\"\n");
  EXPECT_THAT(station.publish().err, HasSubstr("news.toml:1"));
  EXPECT_EQ(read_file(station.repository() / "trust/timestamp.json"), timestamp);
}

}  // namespace

}  // namespace hambrel::test
