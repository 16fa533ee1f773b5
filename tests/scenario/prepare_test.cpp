// --prepare and activate, as administrators use them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

class Preparing : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lib", "1-1", "", {{"usr/lib/lib.so", "one"}, {"usr/share/lib/a/b", "x"}});
    station.pack("lib", "2-1", "", {{"usr/lib/lib.so", "two"}, {"usr/share/lib/a", "now a file"}});
    station.pack("desk", "1-1", "[config]\nfiles = [\"etc/*\"]\n", {{"usr/bin/desk", "d"}, {"etc/desk", "1\n"}});
    station.pack("desk", "2-1", "[config]\nfiles = [\"etc/*\"]\n", {{"usr/bin/desk", "D"}, {"etc/desk", "2\n"}});
    station.open();
    ASSERT_EQ(station.hambrel({"install", "desk=1", "lib=1", "-y"}).code, 0);
  }
  fs::path stage() const { return station.root() / "var/lib/hambrel/stage"; }
  Station station;
};

TEST_F(Preparing, ActivateSwitchesToWhatWasPreparedWithoutTheRepository) {
  const auto before = station.files();
  const Ran prepared = station.hambrel({"upgrade", "--prepare", "-y", "--reason", "by day"});
  EXPECT_EQ(prepared.code, 0) << prepared.err;
  EXPECT_THAT(prepared.out, HasSubstr("staged; nothing was changed on the running system."));
  EXPECT_EQ(station.files(), before);
  EXPECT_EQ(station.installed(), "desk 1-1, lib 1-1");
  EXPECT_THAT(station.hambrel({"ledger"}).out, HasSubstr("upgrade of 2 packages, 16 B staged"));
  EXPECT_THAT(station.hambrel({"activate", "--dry-run"}).out, HasSubstr("upgrade  lib   1-1  ->  2-1"));
  EXPECT_EQ(station.hambrel({"recover"}).code, 0) << "a start in between leaves it prepared";
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  fs::remove_all(station.repository());
  fs::remove_all(station.root() / "var/cache/hambrel");
  const Ran activated = station.hambrel({"activate"});
  EXPECT_EQ(activated.code, 0) << activated.err;
  EXPECT_THAT(activated.out,
              HasSubstr("Activated: upgrade of 2 packages, as transaction 2. To undo it: `hambrel --root"));
  EXPECT_EQ(station.installed(), "desk 2-1, lib 2-1");
  EXPECT_EQ(read_file(station.root() / "usr/share/lib/a"), "now a file");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  EXPECT_EQ(station.json({"ledger", "--most", "1"})["reason"], "by day");
  EXPECT_EQ(station.hambrel({"activate"}).out, "Nothing is prepared.\n");
  ASSERT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  EXPECT_EQ(station.files(), before);
  // an undo can be prepared, too
  const auto upgraded = station.hambrel({"redo", "2", "--prepare", "-y"});
  EXPECT_EQ(station.files(), before);
  EXPECT_EQ(station.hambrel({"activate", "-q"}).out, "");
  EXPECT_EQ(station.installed(), "desk 2-1, lib 2-1");
  ASSERT_EQ(station.hambrel({"undo", "4", "-y"}).code, 0);
  EXPECT_EQ(station.files(), before);
}

TEST_F(Preparing, WhatHasMovedSinceIsNotSwitchedAwayUnseen) {
  ASSERT_EQ(station.hambrel({"upgrade", "--prepare", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"remove", "lib", "--prepare", "-y"}).err,
              HasSubstr("a change is already prepared: `hambrel"));
  write_file(station.root() / "etc/desk", "edited since\n");
  const auto edited = station.files();
  const Ran refused = station.hambrel({"activate"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err, HasSubstr("/etc/desk: this has been changed since the transaction was prepared"));
  EXPECT_EQ(station.files(), edited);
  EXPECT_THAT(station.hambrel({"remove", "lib", "-n"}).out, HasSubstr("can no longer be activated after this"));
  ASSERT_EQ(station.hambrel({"remove", "lib", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"activate"}).err,
              HasSubstr("the system has changed since this was prepared: transaction 2 (remove)"));
  EXPECT_EQ(station.installed(), "desk 1-1");
  EXPECT_THAT(station.hambrel({"activate", "--discard"}).out, HasSubstr("Dropped: upgrade of 2 packages; 16 B"));
  EXPECT_TRUE(fs::is_empty(stage()));
  ASSERT_EQ(station.hambrel({"upgrade", "--prepare", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"activate"}).code, 0);
  EXPECT_EQ(read_file(station.root() / "etc/desk"), "edited since\n");
}

TEST_F(Preparing, WhatIsPutOffToTheStartHappensThereOnce) {
  ASSERT_EQ(station.hambrel({"upgrade", "--prepare", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"activate", "--booting"}).code, 0);
  EXPECT_EQ(station.installed(), "desk 1-1, lib 1-1") << "nobody asked for it";
  EXPECT_THAT(station.hambrel({"activate", "--at-boot"}).out, HasSubstr("At the next start: upgrade of 2 packages."));
  write_file(station.root() / "etc/desk", "edited since\n");
  EXPECT_EQ(station.hambrel({"activate", "--booting"}).code, 3);
  EXPECT_EQ(station.hambrel({"activate", "--booting"}).code, 0) << "a start does not fail twice for it";
  station.hambrel({"activate", "--discard"});
  ASSERT_EQ(station.hambrel({"upgrade", "--prepare", "-y"}).code, 0);
  station.hambrel({"activate", "--at-boot"});
  EXPECT_EQ(station.hambrel({"activate", "--booting"}).code, 0);
  EXPECT_EQ(station.installed(), "desk 2-1, lib 2-1");
}

}  // namespace hambrel::test
