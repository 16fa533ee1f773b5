#include "os/file_system.h"

#include <fcntl.h>
#include <gtest/gtest.h>

#include <sys/stat.h>
#include <unistd.h>
#include <tuple>

#include <atomic>
#include <thread>

#include "base/error.h"
#include "os/lock.h"
#include "support/program.h"

namespace hambrel::os {

using test::TempDir;
using test::write_file;

TEST(FileSystem, SymbolicLinksNeverLeadOutOfTheRoot) {
  const TempDir outside, root;
  write_file(outside / "secret", "secret");
  std::filesystem::create_symlink(outside.path(), root / "out");
  std::filesystem::create_symlink("../../../../../../" + outside.text(), root / "up");
  const auto fs = open_file_system(root.text());
  EXPECT_FALSE(fs->stat("out/secret"));
  EXPECT_FALSE(fs->stat("up/secret"));
  EXPECT_THROW(fs->create("out/new", 0644), Error);
  EXPECT_THROW(fs->remove_file("up/secret"), Error);
  EXPECT_EQ(test::read_file(outside / "secret"), "secret");
  // the bite: the same names do lead out by an ordinary open
  EXPECT_EQ(test::read_file(root / "out/secret"), "secret");
  EXPECT_THROW(fs->stat("../x"), Error);
  EXPECT_EQ(fs->look_into("out"), nullptr) << "directories held open are no way out either";
  EXPECT_THROW(fs->open_directory("up"), Error);
  EXPECT_THROW(fs->look_into("")->stat(".."), Error);
  EXPECT_THROW(fs->open_directory("")->make_directory("../x", 0755), Error);
  const auto top = fs->open_directory("");
  EXPECT_THROW(top->rename_no_replace("out", *top, "../moved"), Error);
}

TEST(FileSystem, AbsoluteLinksAreTakenInsideTheRoot) {
  const TempDir root;
  write_file(root / "usr/lib/x", "inside");
  std::filesystem::create_symlink("/usr/lib", root / "lib");
  const auto fs = open_file_system(root.text());
  EXPECT_EQ(fs->read_all("lib/x", 100), "inside");
  EXPECT_EQ(fs->stat("lib")->type, FileType::Symlink);
  EXPECT_EQ(fs->stat_followed("lib")->type, FileType::Directory);
}

TEST(FileSystem, ADirectoryIsListedAsOftenAsItIsAskedAndEmptyWhenItIsGone) {
  const test::TempDir dir;
  const auto fs = open_file_system(dir.text());
  fs->make_directories("usr/share");
  test::write_file(dir / "usr/share/file", "x");
  const auto usr = fs->look_into("usr");
  const auto share = usr->look_into("share");
  for (int time = 0; time < 2; ++time) {
    const auto entries = share->entries();
    ASSERT_EQ(entries.size(), 1U) << time;
    EXPECT_EQ(entries[0].name, "file");
    EXPECT_EQ(entries[0].type, FileType::Regular);
  }
  const auto not_listed_yet = usr->look_into("share");
  fs->remove_file("usr/share/file");
  fs->remove_directory("usr/share");
  EXPECT_TRUE(not_listed_yet->entries().empty());
}

TEST(FileSystem, ExchangeSwapsAndNoReplaceRefuses) {
  const TempDir root;
  write_file(root / "a", "A");
  std::filesystem::create_directory(root / "b");
  const auto fs = open_file_system(root.text());
  fs->rename_exchange("a", "b");
  EXPECT_EQ(fs->stat("a")->type, FileType::Directory);
  EXPECT_EQ(fs->read_all("b", 10), "A");
  EXPECT_THROW(fs->rename_no_replace("a", "b"), Error);
  fs->set_mtime("", 1000, 5);
  EXPECT_EQ(fs->stat("")->mtime_seconds, 1000);
}

TEST(FileSystem, RemoveTreeDoesNotFollowLinks) {
  const TempDir root;
  write_file(root / "keep/x", "x");
  std::filesystem::create_directory(root / "go");
  std::filesystem::create_symlink("/keep", root / "go/link");
  open_file_system(root.text())->remove_tree("go");
  EXPECT_FALSE(std::filesystem::exists(root / "go"));
  EXPECT_EQ(test::read_file(root / "keep/x"), "x");
}

TEST(FileSystem, RemoveTreeIsNotTurnedAgainstOtherFiles) {
  const TempDir root;
  const auto fs = open_file_system(root.text());
  for (int i = 0; i < 300; ++i) write_file(root / ("keep/" + std::to_string(i)), "x");
  std::atomic<bool> over = false;
  std::jthread swapper([&] {  // its owner swaps the directory for a link to another one, again and again
    while (!over) {
      ::rename((root / "go/d").c_str(), (root / "go/away").c_str());
      (void)!::symlink("../keep", (root / "go/d").c_str());
      ::unlink((root / "go/d").c_str());
      ::rename((root / "go/away").c_str(), (root / "go/d").c_str());
    }
  });
  for (int round = 0; round < 20; ++round) {
    for (int i = 0; i < 300; ++i) {
      std::error_code swapped;
      std::filesystem::create_directories(root / "go/d", swapped);
      const int file = ::open((root / ("go/d/" + std::to_string(i))).c_str(), O_CREAT | O_WRONLY | O_NOFOLLOW, 0600);
      if (file >= 0) ::close(file);
    }
    try {
      fs->remove_tree("go");
    } catch (const Error&) {  // it may not be able to end: its owner keeps it filled
    }
  }
  over = true;
  swapper.join();
  for (int i = 0; i < 300; ++i) EXPECT_TRUE(std::filesystem::exists(root / ("keep/" + std::to_string(i)))) << i;
}

TEST(FileSystem, ATreeOfAnyDepthIsRemovedWithFewFilesOpen) {
  const TempDir root;
  const auto fs = open_file_system(root.text());
  fs->make_directory("deep", 0700);
  auto at = fs->open_directory("deep");
  for (int i = 0; i < 5000; ++i) {
    at->make_directory("d", 0700);
    at = at->enter("d");
  }
  at->create("file", 0600)->close();
  fs->remove_tree("deep");
  EXPECT_FALSE(fs->stat("deep"));
}

TEST(FileSystem, ChangingFollowsOnlyLinksThatNobodyElseCanChange) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs files of another user";
  constexpr unsigned kOther = 65534;
  const TempDir root;
  const auto fs = open_file_system(root.text());
  std::filesystem::create_directories(root / "data/app");
  std::filesystem::create_directories(root / "open");
  std::filesystem::create_directories(root / "theirs/below");
  std::filesystem::create_symlink("/data", root / "srv");
  std::filesystem::create_symlink("/data", root / "strange");
  ASSERT_EQ(::lchown((root / "strange").c_str(), kOther, kOther), 0);
  std::filesystem::create_symlink("/data", root / "open/link");
  std::filesystem::permissions(root / "open", std::filesystem::perms(0777));
  std::filesystem::create_symlink("/data", root / "theirs/below/link");
  ASSERT_EQ(::chown((root / "theirs").c_str(), kOther, kOther), 0);
  fs->create("srv/app/x", 0600)->close();
  EXPECT_TRUE(std::filesystem::exists(root / "data/app/x"));
  EXPECT_FALSE(fs->strange_link("srv/app/x"));
  for (const std::string way : {"strange", "open/link", "theirs/below/link"}) {
    const std::string path = way + "/app/x";
    EXPECT_EQ(fs->strange_link(path), root / way);
    EXPECT_TRUE(fs->stat(path)) << "looking follows it";
    EXPECT_THROW(fs->create(way + "/app/y", 0600), Error) << way;
    EXPECT_THROW(fs->remove_file(path), Error) << way;
    EXPECT_THROW(fs->rename_no_replace(path, "taken"), Error) << way;
    EXPECT_THROW(fs->rename_exchange("srv/app/x", path), Error) << way;
    EXPECT_THROW(fs->set_owner(path, 1, 1), Error) << way;
    EXPECT_THROW(fs->set_mode(path, 04777), Error) << way;
    EXPECT_THROW(fs->open_directory(way + "/app"), Error) << way;
    EXPECT_THROW(fs->open_itself(path), Error) << way;
    EXPECT_THROW(fs->remove_tree(way + "/app"), Error) << way;
  }
  EXPECT_TRUE(std::filesystem::exists(root / "data/app/x"));
}

TEST(FileSystem, AttributesGoToTheDirectoryThatWasPlannedForOnly) {
  const TempDir root;
  const auto fs = open_file_system(root.text());
  fs->make_directory("d", 0755);
  const auto top = fs->open_directory("");
  const auto inode = fs->stat("d")->inode;
  std::filesystem::rename(root / "d", root / "away");
  write_file(root / "d", "x", 0600);
  EXPECT_THROW(top->set_attributes("d", inode, std::nullopt, 0777), Error);
  EXPECT_EQ(fs->stat("d")->mode, 0600U);
  top->set_attributes("away", inode, std::nullopt, 0700);
  EXPECT_EQ(fs->stat("away")->mode, 0700U);
}

TEST(Lock, TheSecondIsToldWhoHoldsIt) {
  const TempDir root;
  const auto fs = open_file_system(root.text());
  const std::string path = "private/lock";
  auto first = take_lock(*fs, path, 0, "`hambrel upgrade` (process 7, ada, since noon)");
  try {
    std::ignore = take_lock(*fs, path, 0, "second");
    FAIL() << "two holders";
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::Locked);
    EXPECT_EQ(error.problem(), "this root is being changed by `hambrel upgrade` (process 7, ada, since noon)");
    EXPECT_EQ(error.hint(), "wait for it to end, or give --wait SECONDS");
  }
  first.reset();
  EXPECT_NO_THROW(take_lock(*fs, path, 0, "third"));
}

}  // namespace hambrel::os
