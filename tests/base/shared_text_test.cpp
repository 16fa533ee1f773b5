#include "base/shared_text.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>
#include <thread>
#include <vector>

namespace hambrel {

TEST(SharedText, CopiesAreTheSameTextAndTakeAPointer) {
  static_assert(sizeof(SharedText) == sizeof(void*));
  const SharedText first(std::string("usr/share/doc/") + "a");
  SharedText second = first;
  EXPECT_EQ(second.view().data(), first.view().data()) << "one text";
  EXPECT_EQ(first.like("usr/share/doc/a").view().data(), first.view().data());
  EXPECT_EQ(first.like("usr/share/doc/b"), "usr/share/doc/b");
  second = "other";
  EXPECT_EQ(first, "usr/share/doc/a") << "it never changes";
  EXPECT_EQ(fmt::format("[{:>7}]", second), "[  other]");
  const SharedText moved = std::move(second);
  EXPECT_EQ(moved, std::string("other"));
  EXPECT_TRUE(SharedText().empty());
  EXPECT_EQ(SharedText(""), SharedText());
  EXPECT_EQ(SharedText(std::string_view("a\0b", 3)).string().size(), 3U);
}

TEST(SharedText, IsLookedUpByViewInOrder) {
  std::map<SharedText, int, std::less<>> numbers{{"b", 2}, {"a", 1}, {"", 0}};
  EXPECT_EQ(numbers.find(std::string_view("a"))->second, 1);
  EXPECT_EQ(numbers.begin()->second, 0);
  EXPECT_LT(SharedText("a"), "b");
  EXPECT_FALSE(numbers.contains(std::string_view("c")));
}

TEST(SharedText, ThreadsCopyAndDropIt) {
  const SharedText text("held by many");
  std::vector<std::thread> threads;
  for (int i = 0; i < 4; ++i)
    threads.emplace_back([own = text] {
      for (int k = 0; k < 10000; ++k) {
        const SharedText copy = own;
        ASSERT_EQ(copy.view().size(), 12U);
      }
    });
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(text, "held by many");
}

}  // namespace hambrel
