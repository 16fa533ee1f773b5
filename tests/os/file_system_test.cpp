#include "os/file_system.h"

#include <gtest/gtest.h>

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

TEST(Lock, TheSecondIsToldWhoHoldsIt) {
  const TempDir root;
  const std::string path = root / "lock";
  auto first = take_lock(path, 0, "`hambrel upgrade` (process 7, ada, since noon)");
  try {
    take_lock(path, 0, "second");
    FAIL() << "two holders";
  } catch (const Error& error) {
    EXPECT_EQ(error.code(), ErrorCode::Locked);
    EXPECT_EQ(error.problem(), "this root is being changed by `hambrel upgrade` (process 7, ada, since noon)");
    EXPECT_EQ(error.hint(), "wait for it to end, or give --wait SECONDS");
  }
  first.reset();
  EXPECT_NO_THROW(take_lock(path, 0, "third"));
}

}  // namespace hambrel::os
