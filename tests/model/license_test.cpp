#include "model/license.h"

#include <gtest/gtest.h>

namespace hambrel {

TEST(License, IsFreeWhereAllOfItMayBeUsedFreely) {
  for (const char* free : {"MIT", "mit", "GPL-3.0-or-later WITH GCC-exception-3.1", "MIT AND BSD-3-Clause", "LGPL-2.1+",
                           "Proprietary OR Apache-2.0", "(MIT OR X) AND (Y OR ISC)", "Zlib", "0BSD"})
    EXPECT_TRUE(is_free_license(free)) << free;
  for (const char* other : {"", "Proprietary", "MIT AND Proprietary", "MIT OR", "(MIT", "MIT MIT", "AND MIT",
                            "MIT WITH", "(MIT OR X) AND Y", ")MIT("})
    EXPECT_FALSE(is_free_license(other)) << other;
  EXPECT_FALSE(is_free_license(std::string(100000, '('))) << "and does not take the stack";
}

TEST(License, IsFoundByItsName) {
  EXPECT_TRUE(names_license("MIT OR (GPL-2.0-only AND BSD-3-Clause)", "gpl-*"));
  EXPECT_TRUE(names_license("LGPL-2.1+", "LGPL-2.1"));
  EXPECT_FALSE(names_license("MIT OR ISC", "or"));
  EXPECT_FALSE(names_license("MIT", "GPL*"));
}

TEST(License, IsRefusedWhereNoWayIsLeft) {
  const std::vector<std::string> refused{"AGPL-*", "sspl-1.0", "LGPL-2.1"};
  for (const char* text : {"AGPL-3.0-only", "MIT AND SSPL-1.0", "AGPL-3.0+", "LGPL-2.1+",
                           "(AGPL-3.0-only OR SSPL-1.0) AND MIT", "what AGPL-3.0-only is"})
    EXPECT_TRUE(is_license_refused(text, refused)) << text;
  for (const char* text : {"", "MIT", "AGPL-3.0-only OR MIT", "GPL-3.0-only", "my own"})
    EXPECT_FALSE(is_license_refused(text, refused)) << text;
}

}  // namespace hambrel
