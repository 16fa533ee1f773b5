// The attic's limits and tidy, as administrators use them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;
using testing::Not;

class Retention : public testing::Test {
 protected:
  void SetUp() override {
    for (const std::string version : {"1", "2", "3", "4"})
      station.pack("lamp", version + "-1", "[config]\nfiles = [\"etc/*\"]\n",
                   {{"usr/bin/lamp", "lamp " + version}, {"etc/lamp", "conf\n"}});
    station.pack("horn", "1-1", "", {{"usr/bin/horn", "hoot"}});
    station.open();
  }
  void install(const std::string& spec) { ASSERT_EQ(station.hambrel({"install", spec, "-y"}).code, 0) << spec; }
  bool has_attic(int id) const { return fs::exists(attic() / std::to_string(id)); }
  fs::path attic() const { return station.root() / "var/lib/hambrel/attic"; }
  Station station;
};

TEST_F(Retention, APlanSaysWhatTheLimitsGiveUpAndTheChangeDoesIt) {
  install("lamp=1");
  install("lamp=2");
  install("lamp=3");
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[attic]\ntransactions = 2\n");
  EXPECT_THAT(station.hambrel({"install", "lamp=4", "-n"}).out,
              HasSubstr("transactions 1 to 2 will no longer be undoable"));
  EXPECT_TRUE(has_attic(1));
  // the power goes between the commit and the tidying up
  EXPECT_EQ(station.hambrel({"install", "lamp=4", "-y"}, {{"HAMBREL_TEST_DIE_AT", "committed"}}).code, 137);
  EXPECT_TRUE(has_attic(1));
  station.hambrel({"recover"});
  EXPECT_FALSE(has_attic(1)) << "R3";
  EXPECT_FALSE(has_attic(2));
  const Ran refused = station.hambrel({"undo", "2", "-y"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err, HasSubstr("its files are no longer in the attic: transaction 4 dropped them"));
  EXPECT_THAT(station.hambrel({"ledger"}).out, HasSubstr("done; cannot be undone"));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  // going back past it takes the package from the repository
  fs::remove_all(station.root() / "var/cache/hambrel/packages");
  EXPECT_THAT(station.hambrel({"rollback", "1", "-n"}).out, HasSubstr("as after transaction 1  base/stable"));
  ASSERT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0);
  EXPECT_EQ(read_file(station.root() / "usr/bin/lamp"), "lamp 1");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Retention, TidyAtticKeepsWhatCheckpointsTheShelfAndThePreparedNeed) {
  install("horn");
  install("lamp=1");
  ASSERT_EQ(station.hambrel({"shelve", "horn", "-y"}).code, 0);
  install("lamp=2");
  ASSERT_EQ(station.hambrel({"checkpoint", "make", "calm"}).code, 0);
  install("lamp=3");
  EXPECT_THAT(station.hambrel({"checkpoint", "list"}).out, HasSubstr("6 B of the attic"));
  ASSERT_EQ(station.hambrel({"undo", "5", "--prepare", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"tidy"}).out, HasSubstr("undo as far back as transaction 1"));
  const Ran shown = station.hambrel({"tidy", "attic", "--keep", "1", "-n"});
  EXPECT_THAT(shown.out, HasSubstr("for horn, which is shelved"));
  EXPECT_THAT(shown.out, HasSubstr("for what is prepared"));
  EXPECT_TRUE(has_attic(1));
  const Ran done = station.hambrel({"tidy", "attic", "--keep", "1", "-y", "--reason", "room"});
  EXPECT_THAT(done.out, HasSubstr("Done as transaction 6"));
  for (const int id : {1, 2, 4}) EXPECT_FALSE(has_attic(id)) << id;
  for (const int id : {3, 5}) EXPECT_TRUE(has_attic(id)) << id;
  EXPECT_EQ(station.hambrel({"activate"}).code, 0) << "tidying does not count as moving the system";
  ASSERT_EQ(station.hambrel({"unshelve", "horn", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"rollback", "calm", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lamp 2-1");
  EXPECT_THAT(station.hambrel({"undo", "6", "-y"}).err, HasSubstr("it dropped files of earlier transactions"));
  EXPECT_THAT(station.hambrel({"tidy", "attic", "-n"}).out, HasSubstr("the attic is within its limits"));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  EXPECT_EQ(station.hambrel({"tidy", "loft"}).code, 2);
  EXPECT_EQ(station.hambrel({"tidy", "attic", "--keep", "few", "-y"}).code, 2);
}

TEST_F(Retention, WrongLimitsAreRefusedWithTheirPlace) {
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[attic]\ntransactions = -1\n");
  EXPECT_THAT(station.hambrel({"install", "horn", "-n"}).err, HasSubstr("hambrel.toml:2"));
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[attic]\ntons = 1\n");
  EXPECT_THAT(station.hambrel({"install", "horn", "-n"}).err, HasSubstr("tons"));
}

}  // namespace hambrel::test
