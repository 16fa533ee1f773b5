#include "txn/directories_ahead.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <set>

#include "os/host.h"
#include "support/program.h"

namespace hambrel::txn {

TEST(DirectoriesAhead, EachPathIsAskedAboutWhetherItWasLookedAtAheadOrNot) {
  const test::TempDir directory;
  std::set<std::string> all{"d/deep", "d/deep/down", "d/link"};
  for (const char* file : {"d/a", "d/b", "d/deep/c", "d/deep/down/x", "d/deep/down/y"}) {
    all.insert(file);
    test::write_file(directory / file, "content");
  }
  std::filesystem::create_directory_symlink("deep", directory / "d/link");
  std::filesystem::create_directory_symlink("d", directory / "way");
  const auto root = os::open_file_system(directory.text());
  for (const bool in_time : {false, true}) {
    std::unique_ptr<DirectoriesAhead> ahead;
    for (int wait = 0; ahead == nullptr || (in_time && !ahead->in("d/deep/down")); ++wait) {
      ASSERT_LT(wait, 1000);
      const std::vector<SharedText> tops =
          in_time ? std::vector<SharedText>{"way", "d/a", "nothing", "d"} : std::vector<SharedText>{};
      ahead = std::make_unique<DirectoriesAhead>(*root, tops);
      os::sleep_milliseconds(wait);
      ahead->stop();
    }
    EXPECT_EQ(ahead->in("d") != nullptr, in_time);
    EXPECT_EQ(ahead->in("way"), nullptr) << "a link is not followed";
    EXPECT_EQ(ahead->in("d/link"), nullptr);
    for (const std::string& unknown : all) {
      std::vector<std::string> asked;
      const bool fine = ahead->all_below(
          "d", [&](std::string_view path) { return path != unknown && all.contains(std::string(path)); },
          [&](const std::string& path) {
            asked.push_back(path);
            return false;
          });
      EXPECT_FALSE(fine) << unknown;
      EXPECT_THAT(asked, testing::ElementsAre(unknown));
    }
    const auto each = [](std::string_view) { return true; };
    EXPECT_TRUE(ahead->all_below("d", each, each));
    EXPECT_FALSE(ahead->all_below("nothing", each, each));
  }
}

}  // namespace hambrel::txn
