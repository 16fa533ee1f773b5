// Removal, reasons, holds, cleaning and disk use, as administrators meet them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;
using testing::Not;

class Tidy : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lib", "1-1", "", {{"usr/lib/lib", std::string(300'000, 'l')}});
    station.pack("lib", "2-1", "", {{"usr/lib/lib", std::string(300'000, 'L')}});
    station.pack("font", "1-1", "", {{"usr/share/font", std::string(100'000, 'f')}});
    station.pack("desk", "1-1", "[relations]\nrequires = [\"lib\"]\nrecommends = [\"font\"]\n",
                 {{"usr/bin/desk", "d"}});
    station.pack("watch", "1-1", "[relations]\nrequires = [\"lib\"]\n", {{"usr/bin/watch", "w"}});
    station.open();
  }
  void run(std::vector<std::string> words) {
    words.push_back("-y");
    const Ran ran = station.hambrel(words);
    ASSERT_EQ(ran.code, 0) << words[0] << ": " << ran.err;
  }
  nlohmann::json area(const std::string& name) const {
    std::istringstream lines(station.hambrel({"tidy", "--json"}).out);
    for (std::string line; std::getline(lines, line);)
      if (const auto one = nlohmann::json::parse(line); one["area"] == name) return one;
    return {};
  }
  std::set<std::string> cached() const {
    std::set<std::string> names;
    for (const auto& one : fs::recursive_directory_iterator(station.root() / "var/cache/hambrel/packages"))
      if (one.is_regular_file())
        names.insert(one.path().parent_path().filename().string() + " " + one.path().filename().string());
    return names;
  }
  Station station;
};

TEST_F(Tidy, UnneededPackagesGoWithReasonsAndWhatIsRecommendedOnlyWhenStrict) {
  run({"install", "desk", "watch"});
  run({"remove", "watch"});
  EXPECT_EQ(area("unneeded")["count"], 0) << "desk needs lib and recommends font";
  EXPECT_THAT(station.hambrel({"tidy", "unneeded", "-n"}).out, HasSubstr("Nothing to do"));
  EXPECT_THAT(station.hambrel({"tidy", "unneeded", "--strict", "-n"}).out,
              HasSubstr("remove  font  1-1  no longer needed"));
  run({"remove", "desk"});
  EXPECT_EQ(area("unneeded")["bytes"], 400'000);
  run({"hold", "font"});
  run({"tidy", "unneeded"});
  EXPECT_EQ(station.installed(), "font 1-1") << "a held package is not touched";
  run({"undo", "5"});
  EXPECT_EQ(station.installed(), "font 1-1, lib 2-1");
}

TEST_F(Tidy, ARemovalThatWouldTakeWantedPackagesIsRefusedWithRemedies) {
  run({"install", "desk"});
  const Ran ran = station.hambrel({"remove", "lib", "-y"});
  EXPECT_EQ(ran.code, 3);
  EXPECT_THAT(ran.err, HasSubstr("desk 1-1 is installed and wanted"));
  EXPECT_THAT(ran.err, HasSubstr("remove desk lib\n     removes desk (wanted); removes lib"));
  run({"unwant", "desk"});
  EXPECT_THAT(station.hambrel({"list", "unneeded"}).out, HasSubstr("desk"));
  run({"want", "desk"});
  run({"remove", "--unneeded", "desk"});
  EXPECT_EQ(station.installed(), "");
}

TEST_F(Tidy, TheCacheGivesUpByEachOptionAndSaysWhichWayBackIsLost) {
  run({"install", "lib=1"});
  run({"upgrade"});
  run({"install", "font"});
  EXPECT_EQ(cached(), (std::set<std::string>{"font 1-1.independent.hambrel", "lib 1-1.independent.hambrel",
                                             "lib 2-1.independent.hambrel"}));
  EXPECT_EQ(station.hambrel({"tidy", "cache", "--older", "1", "-n"}).out.find("drop"), std::string::npos);
  EXPECT_THAT(station.hambrel({"tidy", "cache", "--keep", "1", "-n"}).out, HasSubstr("drop  lib  1-1"));
  fs::remove_all(station.repository() / "packages/lib/1-1.independent.hambrel");
  station.publish();
  station.hambrel({"refresh"});
  const Ran one = station.hambrel({"tidy", "cache", "--unavailable", "-n"});
  EXPECT_THAT(one.out, HasSubstr("drop  lib  1-1"));
  EXPECT_THAT(one.out, Not(HasSubstr("note"))) << "the attic has it";
  run({"tidy", "attic", "--keep", "1"});
  EXPECT_THAT(station.hambrel({"tidy", "cache", "--unavailable", "-n"}).out,
              HasSubstr("going back to before transaction 2 will be impossible: lib 1-1 exists nowhere else"));
  write_file(station.root() / "var/cache/hambrel/packages/font/2-1.independent.hambrel.01234567.part", "half");
  EXPECT_THAT(station.hambrel({"tidy"}).out, HasSubstr("1 incomplete"));
  EXPECT_THAT(station.hambrel({"tidy", "cache", "-n"}).out,
              testing::ContainsRegex("drop  font  2-1 .* partial download  4 B"));
  run({"tidy", "cache", "--keep", "5"});
  EXPECT_EQ(cached().size(), 3U) << "only the partial download goes";
  run({"tidy", "cache", "--all"});
  EXPECT_TRUE(cached().empty());
  EXPECT_EQ(station.hambrel({"tidy", "cache", "--strict", "-y"}).code, 2);
}

TEST_F(Tidy, LimitsOfTheCacheHoldAfterATransactionAndAreToldInALine) {
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[cache]\nversions = 1\n");
  run({"install", "lib=1"});
  const Ran ran = station.hambrel({"upgrade", "-y"});
  EXPECT_THAT(ran.out, HasSubstr("Removed 1 package file ("));
  EXPECT_EQ(cached(), (std::set<std::string>{"lib 2-1.independent.hambrel"}));
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[cache]\nsize = 1\n");
  EXPECT_THAT(station.hambrel({"tidy"}).err, HasSubstr("hambrel.toml:2"));
}

TEST_F(Tidy, LeftoversAndContentsOfNoUseGoTogether) {
  station.pack("horn", "1-1", "[config]\nfiles = [\"etc/*\"]\n", {{"etc/horn", "h\n"}, {"usr/bin/horn", "h"}});
  station.publish();
  station.hambrel({"refresh"});
  run({"install", "horn"});
  write_file(station.root() / "etc/horn", "mine\n");
  run({"remove", "horn"});
  EXPECT_EQ(area("configs")["count"], 1);
  run({"tidy", "configs"});
  EXPECT_FALSE(fs::exists(station.root() / "etc/horn"));
  EXPECT_TRUE(fs::exists(station.root() / "var/lib/hambrel/pristine")) << "an undo may need it";
  run({"undo", "3"});
  EXPECT_EQ(read_file(station.root() / "etc/horn"), "mine\n");
  run({"tidy", "configs"});
  run({"install", "font"});
  run({"tidy", "attic", "--keep", "1"});
  EXPECT_EQ(area("configs")["count"], 1) << "no way leads back to it";
  EXPECT_THAT(station.hambrel({"tidy", "configs", "-n"}).out, HasSubstr("1 pristine content no longer used"));
  EXPECT_FALSE(fs::is_empty(station.root() / "var/lib/hambrel/pristine")) << "only shown";
  run({"install", "horn", "--prepare"});
  EXPECT_EQ(area("configs")["count"], 0) << "what is prepared may need it";
  ASSERT_EQ(station.hambrel({"activate", "--discard"}).code, 0);
  run({"tidy", "configs"});
  EXPECT_TRUE(fs::is_empty(station.root() / "var/lib/hambrel/pristine"));
}

TEST_F(Tidy, ListBySizeTellsWhatRemovingWouldReallyFree) {
  run({"install", "desk", "watch"});
  const auto frees = [&](const std::string& name) {
    std::istringstream lines(station.hambrel({"list", "--sort", "size", "--json"}).out);
    for (std::string line; std::getline(lines, line);)
      if (const auto one = nlohmann::json::parse(line); one["name"] == name) return one["frees"];
    return nlohmann::json();
  };
  EXPECT_EQ(frees("desk")["files"], 100'001) << "lib stays: watch needs it";
  EXPECT_EQ(frees("lib")["needed_by"], (std::vector<std::string>{"desk", "watch"}));
  const Ran all = station.hambrel({"list", "--sort", "size", "wanted"});
  EXPECT_THAT(all.out, HasSubstr("Removing these 2 together would free "));
  EXPECT_THAT(all.out, HasSubstr(", including font, lib (then no longer needed), and "));
  run({"remove", "watch"});
  EXPECT_EQ(frees("desk")["files"], 400'001);
  EXPECT_EQ(frees("desk")["with"], (std::vector<std::string>{"font", "lib"}));
  EXPECT_THAT(station.hambrel({"list", "size>200K"}).out, Not(HasSubstr("font")));
  const Ran most = station.hambrel({"list", "--sort", "size", "--most", "1"});
  EXPECT_THAT(most.out, HasSubstr("lib"));
  EXPECT_THAT(most.out, HasSubstr("... and 2 more"));
  EXPECT_EQ(station.hambrel({"list", "size>much"}).code, 2);
}

TEST_F(Tidy, AHoldSaysSinceWhenWhyAndWhatWaits) {
  run({"install", "lib=1"});
  run({"hold", "lib", "--until", "2099-01-31", "--reason", "the driver needs 1"});
  const Ran ran = station.hambrel({"list", "held"});
  EXPECT_THAT(ran.out, HasSubstr("lib  1-1  -> 2-1 waits  since 20"));
  EXPECT_THAT(ran.out, HasSubstr(", until 2099-01-31: the driver needs 1"));
  EXPECT_THAT(station.hambrel({"upgrade", "-n"}).out, HasSubstr("lib is held at 1-1 (2-1 is available): the driver"));
}

}  // namespace hambrel::test
