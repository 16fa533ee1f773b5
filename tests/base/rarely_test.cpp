#include "base/rarely.h"

#include <gtest/gtest.h>

#include <string>

namespace hambrel {

TEST(Rarely, CopiesAreDeepAndWhatIsNotThereTakesAPointer) {
  static_assert(sizeof(Rarely<std::string>) == sizeof(void*));
  Rarely<int> number;
  EXPECT_FALSE(number);
  number = 0;
  ASSERT_TRUE(number) << "there, though it is 0";
  Rarely<int> copy = number;
  number.own() = 7;
  EXPECT_EQ(*number, 7);
  EXPECT_EQ(*copy, 0);
  const Rarely<int> moved = std::move(copy);
  EXPECT_EQ(*moved, 0);
  Rarely<std::string> text;
  text.own() += "made when it is first changed";
  EXPECT_EQ(*text, "made when it is first changed");
}

}  // namespace hambrel
