// Roots that older programs have made. tests/data has one as it was before the ledger kept records of plans: with an
// upgrade whose configuration was merged, a hold, a leftover that was purged, and something prepared.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class OlderRoot : public testing::Test {
 protected:
  void SetUp() override {
    const Ran ran = run(
        {"/bin/tar", "-C", station.path("").string(), "-xzf", HAMBREL_SOURCE "/tests/data/root-of-schema-7.tar.gz"});
    ASSERT_EQ(ran.code, 0) << ran.err;
    EXPECT_THAT(station.hambrel({"ledger"}).err, HasSubstr("hambrel --root"));
    ASSERT_EQ(station.hambrel({"recover"}).code, 0);
  }
  Station station;
};

TEST_F(OlderRoot, IsReadAsItWasWritten) {
  const Ran shown = station.hambrel({"ledger", "show", "2"});
  EXPECT_THAT(shown.out, HasSubstr("merge  /etc/tidegauge.conf  tidegauge  your changes and the new version's"));
  EXPECT_THAT(shown.out, HasSubstr("asked for"));
  const Ran all = station.hambrel({"ledger"});
  EXPECT_THAT(all.out, HasSubstr("purge /etc/foghorn.conf"));
  EXPECT_THAT(all.out, HasSubstr("install of 1 package, 30 B staged"));
  // what came out of an archive has other inode numbers, so there is no way back; the ledger is whole
  EXPECT_THAT(station.hambrel({"verify"}).out, AllOf(Not(HasSubstr("ledger")), Not(HasSubstr("altered"))));
  EXPECT_EQ(station.hambrel({"activate", "--discard"}).code, 0);
}

TEST_F(OlderRoot, IsChangedAndGoesOn) {
  EXPECT_EQ(station.hambrel({"activate", "--discard"}).code, 0);
  EXPECT_EQ(station.hambrel({"hold", "-y", "tidegauge"}).code, 0);
  EXPECT_EQ(station.hambrel({"undo", "-y", "6"}).code, 0);
  const Ran removed = station.hambrel({"remove", "-y", "tidegauge"});
  EXPECT_EQ(removed.code, 0) << removed.err;
  EXPECT_TRUE(fs::exists(station.root() / "etc/tidegauge.conf")) << "edited: it stays";
  EXPECT_EQ(station.hambrel({"undo", "-y", "8"}).code, 0);
  EXPECT_EQ(station.installed(), "tidegauge 1.1-1");
  EXPECT_THAT(station.hambrel({"verify"}).out, AllOf(Not(HasSubstr("ledger")), Not(HasSubstr("altered"))));
}

}  // namespace hambrel::test
