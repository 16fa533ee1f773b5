#include "model/version.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <random>
#include <vector>

#include "model/relation.h"

namespace hambrel {

Version version(const std::string& text) { return Version::parse(text).value(); }

TEST(Version, TheOrderOfTheSpecification) {
  // each is below the next
  const std::vector<std::string> ascending{
      "0.9~",     "1.0~~",   "1.0~dev1", "1.0~rc1", "1.0dev", "1.0alpha2", "1.0beta1",
      "1.0beta2", "1.0pre",  "1.0rc1",   "1.0rc2",  "1.0",    "1.0-0",     "1.0-1",
      "1.0-1a",   "1.0-1.1", "1.0-2",    "1.0-10",  "1.0a",   "1.0b",      "1.0.0",
      "1.0.1",    "1.1",     "1.9",      "1.10",    "2.0~",   "2.0",       "99999999999999999999999.1",
      "1:0.1",    "2:0"};
  for (std::size_t i = 0; i < ascending.size(); ++i)
    for (std::size_t k = 0; k < ascending.size(); ++k)
      EXPECT_EQ(version(ascending[i]) <=> version(ascending[k]), i <=> k) << ascending[i] << " and " << ascending[k];
}

TEST(Version, EqualKeysFallBackToBytesAndStayEqualForConstraints) {
  EXPECT_EQ(Version::compare_keys(version("1.00"), version("1.0")), 0);
  EXPECT_NE(version("1.00") <=> version("1.0"), std::strong_ordering::equal);
  EXPECT_TRUE(parse_constraint("a = 1.0", "").allows(version("1_00")));
}

TEST(Version, IsATotalOrderOnRandomTexts) {
  std::mt19937 random(20261123);
  const std::string pieces[] = {"1", "01", "10", ".", "+", "_", "~", "a", "b", "rc", "RC", "dev", "pre", "beta", "z"};
  const auto part = [&] {
    std::string text;
    for (auto count = 1 + random() % 4; count > 0; --count) text += pieces[random() % std::size(pieces)];
    return text;
  };
  std::vector<Version> all;
  for (int i = 0; i < 400; ++i) {
    const std::string text = (random() % 5 == 0 ? "1:" : "") + part() + (random() % 3 == 0 ? "-" + part() : "");
    all.push_back(version(text));
  }
  for (const Version& a : all)
    for (const Version& b : all) {
      EXPECT_EQ(a == b, a.text() == b.text());
      EXPECT_EQ((a <=> b) == std::strong_ordering::less, (b <=> a) == std::strong_ordering::greater);
    }
  std::sort(all.begin(), all.end());
  for (std::size_t i = 0; i < all.size(); ++i)
    for (std::size_t k = i; k < all.size(); ++k)
      ASSERT_LE(all[i], all[k]) << "not transitive at " << all[i].text() << ", " << all[k].text();
}

TEST(Version, RefusesWhatTheGrammarDoesNotHave) {
  for (const char* bad : {"", "-1", "1-", "1:", ":1", "a:1", "1-2-3", "1 2", "1/2", "1:2:3", "1.0\n", "\xC3\xBC"})
    EXPECT_FALSE(Version::parse(bad)) << bad;
  EXPECT_FALSE(Version::parse(std::string(129, '1')));
}

TEST(Constraint, WithoutARevisionAnyRevisionMatches) {
  EXPECT_TRUE(parse_constraint("x = 6.1", "").allows(version("6.1-3")));
  EXPECT_FALSE(parse_constraint("x = 6.1-2", "").allows(version("6.1-3")));
  EXPECT_FALSE(parse_constraint("x > 6.1", "").allows(version("6.1-3")));
  EXPECT_TRUE(parse_constraint("x <= 6.1", "").allows(version("6.1-3")));
  EXPECT_FALSE(parse_constraint("x != 6.1", "").allows(version("6.1-3")));
  EXPECT_TRUE(parse_constraint("x<6.1", "").allows(version("6.1~rc1-1")));
}

}  // namespace hambrel
