// Transactions on a root that is made of several real file systems, and what the kernel would not let them do. Skipped
// where this process may not mount.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/xattr.h>

#include "support/fault_fs.h"
#include "txn/workshop.h"

namespace hambrel::txn {

using test::goods;
using test::Workshop;
using test::write_file;
using testing::HasSubstr;

namespace fs = std::filesystem;

namespace {

class Mounts : public testing::Test {
 protected:
  ~Mounts() override {
    for (auto one = mounted_.rbegin(); one != mounted_.rend(); ++one) ::umount2(one->c_str(), MNT_DETACH);
  }
  /// False where that is not allowed.
  bool mount(const std::string& path, const std::string& options = "size=4m,mode=0755") {
    fs::create_directories(shop / path);
    const std::string at = shop / path;
    if (::mount("none", at.c_str(), "tmpfs", 0, options.c_str()) != 0) return false;
    mounted_.push_back(at);
    return true;
  }
  std::string refused(const std::function<void()>& work) { return test::refusal(work); }

  Workshop shop;
  std::vector<std::string> mounted_;
};

#define NEEDS_MOUNT(path) \
  if (!mount(path)) GTEST_SKIP() << "this process may not mount file systems"

/// An attribute of a file system (FS_IOC_SETFLAGS); false where there are none.
bool set_flag(const fs::path& path, int flag, bool on) {
  const int fd = ::open(path.c_str(), O_RDONLY);
  int flags = 0;
  const bool done = fd >= 0 && ::ioctl(fd, FS_IOC_GETFLAGS, &flags) == 0 &&
                    (flags = on ? flags | flag : flags & ~flag, ::ioctl(fd, FS_IOC_SETFLAGS, &flags)) == 0;
  ::close(fd);
  return done;
}

const test::Goods& boat(int version) {
  static const auto one =
      goods("boat", "1", {{"boot/image", "1"}, {"boot/d/x", "x"}, {"usr/bin/boat", "1"}, {"etc/boat", "c"}});
  static const auto two =
      goods("boat", "2", {{"boot/image", "2"}, {"boot/e/y", "y"}, {"usr/bin/boat", "2"}, {"etc/boat", "c"}});
  return version == 1 ? one : two;
}

}  // namespace

TEST_F(Mounts, EachFileSystemHasItsOwnStageAndAttic) {
  NEEDS_MOUNT("boot");
  NEEDS_MOUNT("usr");
  shop.change(*shop.fs, {&boat(1)});
  const auto before = shop.files();
  const auto upgrade = shop.change(*shop.fs, {&boat(2)}, {"boat"});
  EXPECT_EQ(test::read_file(shop / "boot/image"), "2");
  EXPECT_EQ(test::read_file(shop / "boot/e/y"), "y");
  EXPECT_FALSE(fs::exists(shop / "boot/d"));
  for (const state::Move& move : shop.state->moves_of(upgrade))
    if (move.path == "boot/image") {
      EXPECT_EQ(test::read_file(shop / ("boot/.hambrel/attic/2/" + move.place.string())), "1");
    }
  EXPECT_FALSE(fs::exists(shop / "usr/.hambrel/stage")) << "an empty stage is not left lying about";
  shop.undo(*shop.fs, upgrade);
  auto after = shop.files();
  for (auto* listing : {&after, const_cast<std::map<std::string, std::string>*>(&before)})
    std::erase_if(*listing, [](const auto& one) {
      return one.first.find(".hambrel") != std::string::npos || one.second.starts_with("40");
    });
  EXPECT_EQ(after, before);
}

TEST_F(Mounts, RecoveryWaitsForAFileSystemThatIsNotMounted) {
  NEEDS_MOUNT("boot");
  const std::string boot = shop / "boot", aside = shop / "aside";
  fs::create_directories(aside);
  ASSERT_EQ(::mount(boot.c_str(), aside.c_str(), nullptr, MS_BIND, nullptr), 0);
  mounted_.push_back(aside);
  shop.change(*shop.fs, {&boat(1)});
  const auto before = test::read_file(shop / "boot/image");
  for (std::uint64_t n = 1; !shop.state->journal() || test::read_file(shop / "boot/image") == before; ++n) {
    shop.recover(*shop.fs);
    test::FaultFs faulty(*shop.fs, n, test::FaultFs::Kind::ForGood);
    test::refusal([&] { shop.change(faulty, {&boat(2)}, {"boat"}); });
    ASSERT_TRUE(faulty.hit());
  }
  ASSERT_EQ(::umount2(boot.c_str(), MNT_DETACH), 0);
  EXPECT_THAT(refused([&] { shop.recover(*shop.fs); }), HasSubstr("boot/.hambrel/stage/"));
  EXPECT_TRUE(shop.state->journal()) << "nothing may be called taken back that could not be seen";
  ASSERT_EQ(::mount(aside.c_str(), boot.c_str(), nullptr, MS_BIND, nullptr), 0);
  shop.recover(*shop.fs);
  EXPECT_EQ(test::read_file(shop / "boot/image"), before);
  EXPECT_FALSE(shop.state->journal());
}

TEST_F(Mounts, AStageThatSomebodyElseCouldWriteToIsNotUsed) {
  NEEDS_MOUNT("boot");
  fs::create_directories(shop / "boot/.hambrel");
  fs::permissions(shop / "boot/.hambrel", fs::perms::all);
  EXPECT_THAT(refused([&] { shop.change(*shop.fs, {&boat(1)}); }),
              HasSubstr("boot/.hambrel: is not a directory only Hambrel writes to"));
  EXPECT_EQ(shop.installed(), "");
}

TEST_F(Mounts, WhatIsMountedOnIsNamedBeforeAnythingIsStaged) {
  NEEDS_MOUNT("elsewhere");
  shop.change(*shop.fs, {&boat(1)});
  write_file(shop / "elsewhere/other", "bound");
  const std::string from = shop / "elsewhere/other", to = shop / "usr/bin/boat";
  ASSERT_EQ(::mount(from.c_str(), to.c_str(), nullptr, MS_BIND, nullptr), 0);
  mounted_.push_back(to);
  EXPECT_THAT(refused([&] { shop.plan({&boat(2)}, {"boat"}); }), HasSubstr("usr/bin/boat: it is a mount point"));
}

TEST_F(Mounts, ImmutableFilesAndDirectoriesAreNamedBeforeAnythingIsStaged) {
  NEEDS_MOUNT("boot");
  shop.change(*shop.fs, {&boat(1)});
  if (!set_flag(shop / "boot/image", FS_IMMUTABLE_FL, true)) GTEST_SKIP() << "no file attributes on this file system";
  EXPECT_THAT(refused([&] { shop.plan({&boat(2)}, {"boat"}); }), HasSubstr("boot/image: is immutable or append-only"));
  set_flag(shop / "boot/image", FS_IMMUTABLE_FL, false);
  set_flag(shop / "boot", FS_APPEND_FL, true);
  EXPECT_THAT(refused([&] { shop.plan({&boat(2)}, {"boat"}); }),
              HasSubstr("boot: is an immutable or append-only directory"));
  set_flag(shop / "boot", FS_APPEND_FL, false);
}

TEST_F(Mounts, RoomIsCountedOnEachFileSystem) {
  NEEDS_MOUNT("boot");
  const auto heavy = goods("heavy", "1", {{"boot/image", std::string(5 << 20, 'x') + "y"}, {"usr/bin/heavy", "h"}});
  EXPECT_THAT(refused([&] { shop.plan({&heavy}); }), HasSubstr("/boot: not enough space: 5."));
}

TEST_F(Mounts, NewFilesTakeOverTheGroupAndTheAccessListOfTheirDirectory) {
  if (geteuid() != 0) GTEST_SKIP() << "only root gives files away";
  NEEDS_MOUNT("srv");
  fs::create_directories(shop / "srv/www");
  ASSERT_EQ(::chown((shop / "srv/www").c_str(), 0, 33), 0);
  ASSERT_EQ(::chmod((shop / "srv/www").c_str(), 02775), 0);
  // user::rwx user:7:rwx group::r-x mask::rwx other::--- as posix_acl_xattr.h has it
  const std::string acl(
      "\2\0\0\0\1\0\7\0\377\377\377\377\2\0\7\0\7\0\0\0\4\0\5\0\377\377\377\377\20\0\7\0\377\377\377\377\40\0\0\0\377"
      "\377\377\377",
      44);
  if (::setxattr((shop / "srv/www").c_str(), "system.posix_acl_default", acl.data(), acl.size(), 0) != 0)
    GTEST_SKIP() << "no access lists on this file system";
  const auto site = goods("site", "1", {{"srv/www/index", "i"}, {"srv/www/deep/page", "p"}}, 0640);
  shop.change(*shop.fs, {&site});
  const auto listing = test::tree(shop / "srv/www");
  EXPECT_THAT(listing.at("index"), AllOf(HasSubstr("100640 0:33 "), HasSubstr("system.posix_acl_access")));
  EXPECT_THAT(listing.at("deep"), AllOf(HasSubstr("42755 0:33 "), HasSubstr("system.posix_acl_default=" + acl)));
  EXPECT_THAT(listing.at("deep/page"), AllOf(HasSubstr("100640 0:33 "), HasSubstr("system.posix_acl_access")));
}

TEST_F(Mounts, LongRunsOfZerosTakeNoRoom) {
  NEEDS_MOUNT("boot");
  const auto image = goods("image", "1", {{"boot/disk", std::string(3 << 20, '\0') + "end"}});
  shop.change(*shop.fs, {&image});
  struct ::stat info {};
  ASSERT_EQ(::stat((shop / "boot/disk").c_str(), &info), 0);
  EXPECT_EQ(info.st_size, (3 << 20) + 3);
  EXPECT_LT(info.st_blocks * 512, 1 << 20);
}

}  // namespace hambrel::txn
