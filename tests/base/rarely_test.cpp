#include "base/rarely.h"

#include <gtest/gtest.h>

namespace hambrel {

TEST(Rarely, CopiesAreDeepAndEmptyTextsAreNotKept) {
  static_assert(sizeof(RareText) == sizeof(void*));
  RareText text = std::string("kept");
  RareText copy = text;
  text.clear();
  EXPECT_EQ(copy.text(), "kept");
  EXPECT_TRUE(text.empty());
  EXPECT_EQ(text.text(), "");
  EXPECT_TRUE(RareText(std::string()).empty());
  const RareText& same = copy;
  copy = same;
  EXPECT_EQ(copy.text(), "kept");
  Rarely<int> number;
  EXPECT_FALSE(number);
  number = 0;
  ASSERT_TRUE(number) << "there, though it is 0";
  EXPECT_EQ(*number, 0);
  Rarely<int> moved = std::move(number);
  EXPECT_EQ(*moved, 0);
  moved.reset();
  EXPECT_FALSE(moved);
}

}  // namespace hambrel
