// Roots of other kinds: the layers of a container, a system with security labels.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/mount.h>
#include <sys/xattr.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

namespace {

/// What is there becomes the lower layer of an overlay, which is mounted in its place.
class Overlay {
 public:
  explicit Overlay(const Station& station) : root_(station.root()), layers_(station.path("layers")) {
    fs::create_directories(layers_);
    if (::mount("none", layers_.c_str(), "tmpfs", 0, "mode=0755") != 0) return;
    fs::create_directories(layers_ / "upper");
    fs::create_directories(layers_ / "work");
    const std::string options = "lowerdir=" + root_.string() + ",upperdir=" + (layers_ / "upper").string() +
                                ",workdir=" + (layers_ / "work").string() + ",redirect_dir=off";
    mounted_ = ::mount("overlay", root_.c_str(), "overlay", 0, options.c_str()) == 0;
  }
  ~Overlay() {
    if (mounted_) ::umount2(root_.c_str(), MNT_DETACH);
    ::umount2(layers_.c_str(), MNT_DETACH);
  }
  bool mounted() const { return mounted_; }

 private:
  fs::path root_, layers_;
  bool mounted_ = false;
};

std::string label_of(const fs::path& path) {
  std::string label(200, '\0');
  const ssize_t size = ::lgetxattr(path.c_str(), "security.selinux", label.data(), label.size());
  return size <= 0 ? "" : std::string(label.c_str());
}

bool set_label(const fs::path& path, const std::string& label) {
  return ::lsetxattr(path.c_str(), "security.selinux", label.c_str(), label.size() + 1, 0) == 0;
}

}  // namespace

TEST(Roots, PackagesOfALowerLayerGoAndComeBackAndWhatCannotBeRenamedIsForetold) {
  Station station;
  station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "1"}, {"usr/share/lamp/deep/x", "x"}, {"etc/lamp.conf", "c"}});
  station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "2"}, {"usr/share/lamp/deep", "a file now"}});
  station.open();
  ASSERT_EQ(station.hambrel({"install", "lamp=1-1", "-y"}).code, 0);
  const Overlay overlay(station);
  if (!overlay.mounted()) GTEST_SKIP() << "no overlay can be mounted here";
  const auto before = station.contents();
  const Ran becomes_file = station.hambrel({"upgrade", "-y"});
  EXPECT_EQ(becomes_file.code, 3);
  EXPECT_THAT(becomes_file.err, HasSubstr("share/lamp/deep: is a directory in a lower layer of an overlay"));
  EXPECT_EQ(station.contents(), before) << "refused before anything was touched";

  const Ran removed = station.hambrel({"remove", "lamp", "-y"});
  ASSERT_EQ(removed.code, 0) << removed.err;
  EXPECT_THAT(removed.out, HasSubstr("/usr/share/lamp/deep stays, empty: it is in a lower layer"));
  EXPECT_TRUE(fs::is_empty(station.root() / "usr/share/lamp/deep"));
  EXPECT_FALSE(fs::exists(station.root() / "usr/bin/lamp"));
  ASSERT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  EXPECT_EQ(station.contents(), before);
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST(Roots, WhatComesIntoASystemWithSecurityLabelsGetsTheLabelOfItsPath) {
  Station station;
  station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "1"}, {"usr/share/lamp/deep/x", "x"}, {"etc/lamp.conf", "c"}});
  station.open();
  fs::create_directories(station.root() / "etc/selinux/made-up/contexts/files");
  if (!set_label(station.root() / "etc", "u:r:etc_t:s0")) GTEST_SKIP() << "this process may set no security labels";
  write_file(station.root() / "etc/selinux/config", "SELINUX=enforcing\nSELINUXTYPE=made-up\n");
  const std::string policy = station.root() / "etc/selinux/made-up/contexts/files/file_contexts";
  write_file(policy,
             "/.*\tu:r:default_t:s0\n/usr/bin(/.*)?\tu:r:bin_t:s0\n/usr/share(/.*)?\t-d\tu:r:dir_t:s0\n"
             "/usr/share(/.*)?\t--\tu:r:share_t:s0\n");
  write_file(policy + ".local", "/etc/lamp\\.conf\tu:r:lamp_t:s0\n");
  const Ran ran = station.hambrel({"install", "lamp", "-y"});
  ASSERT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(label_of(station.root() / "usr/bin/lamp"), "u:r:bin_t:s0");
  EXPECT_EQ(label_of(station.root() / "usr/share/lamp/deep"), "u:r:dir_t:s0");
  EXPECT_EQ(label_of(station.root() / "usr/share/lamp/deep/x"), "u:r:share_t:s0");
  EXPECT_EQ(label_of(station.root() / "etc/lamp.conf"), "u:r:lamp_t:s0");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  ASSERT_EQ(station.hambrel({"remove", "lamp", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  EXPECT_EQ(label_of(station.root() / "usr/bin/lamp"), "u:r:bin_t:s0");
}

TEST(Roots, WithoutAPolicyTheDirectoryGivesTheLabel) {
  Station station;
  station.pack("lamp", "1-1", "", {{"etc/lamp/deep/x", "x"}, {"etc/lamp.conf", "c"}});
  station.open();
  if (!set_label(station.root() / "etc", "u:r:etc_t:s0")) GTEST_SKIP() << "this process may set no security labels";
  ASSERT_EQ(station.hambrel({"install", "lamp", "-y"}).code, 0);
  EXPECT_EQ(label_of(station.root() / "etc/lamp/deep/x"), "u:r:etc_t:s0");
  EXPECT_EQ(label_of(station.root() / "etc/lamp.conf"), "u:r:etc_t:s0");
}

}  // namespace hambrel::test
