#include "plan/freed.h"

#include <gtest/gtest.h>

#include <random>

#include "solve/solver.h"
#include "solve/universe_text.h"

namespace hambrel::plan {

TEST(Freed, OfEachAtOnceIsWhatItIsOneByOne) {
  std::mt19937 random(11);
  const auto pick = [&](unsigned n) { return static_cast<unsigned>(random() % n); };
  std::size_t alone = 0, together = 0;
  for (int round = 0; round < 300; ++round) {
    std::string text;
    const unsigned size = 2 + pick(14);
    for (unsigned i = 0; i < size; ++i) {
      const auto name = [&] { return "p" + std::to_string(pick(size)); };
      text += std::string(pick(4) == 0 ? "*" : "+") + "p" + std::to_string(i) + " 1\n";
      text += "    installs " + std::to_string(1 + pick(1000)) + "\n";
      if (pick(10) == 0) text += "    held\n";
      if (pick(12) == 0) text += "    essential\n";
      if (pick(5) == 0) text += "    provides v\n";
      for (unsigned n = pick(3); n > 0; --n)
        text += "    requires " + (pick(6) == 0 ? "v" : name()) + (pick(3) == 0 ? " | " + name() : "") + "\n";
      if (pick(5) == 0) text += "    recommends " + name() + "\n";
    }
    const Universe u = test::universe(text);
    const auto idle = solve::unneeded_of(u, u.installed());
    const auto each = freed_by_each(u);
    ASSERT_EQ(each.size(), u.installed().size());
    for (std::size_t i = 0; i < each.size(); ++i) {
      const Freed one = freed_by(u, {u.installed()[i]}, idle);
      EXPECT_EQ(each[i].needed_by, one.stand_on.size()) << text << u.name(u.installed()[i]);
      EXPECT_EQ(each[i].bytes, one.stand_on.empty() ? one.bytes : 0) << text << u.name(u.installed()[i]);
      alone += one.packages.size() == 1 ? 1 : 0;
      together += one.packages.size() > 1 ? 1 : 0;
    }
  }
  EXPECT_GT(alone, 500U);
  EXPECT_GT(together, 100U);
}

}  // namespace hambrel::plan
