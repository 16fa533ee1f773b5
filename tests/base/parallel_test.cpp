#include "base/parallel.h"

#include <gtest/gtest.h>

#include <atomic>
#include <stdexcept>
#include <vector>

namespace hambrel {
namespace {

TEST(Parallel, EachNumberIsDoneOnce) {
  for (const std::size_t count : {0, 1, 2, 9, 100, 1001})
    for (const unsigned workers : {0U, 1U, 2U, 7U})
      for (const std::size_t few : {0, 1, 50, 5000}) {
        std::vector<std::atomic<int>> times(count);
        in_portions(count, workers, few, [&](std::size_t first, std::size_t last) {
          for (std::size_t i = first; i < last; ++i) ++times[i];
        });
        for (const auto& one : times) ASSERT_EQ(one, 1) << count << " by " << workers << ", few are " << few;
      }
}

TEST(Parallel, TheForemostProblemIsThrownWhenAllHaveEnded) {
  for (int round = 0; round < 50; ++round) {
    std::atomic<int> running = 0;
    const auto work = [&](std::size_t first, std::size_t) {
      ++running;
      --running;
      throw std::runtime_error(std::to_string(first));  // the first portion is always begun
    };
    try {
      in_portions(1000, 3, 10, work);
      FAIL() << "nothing was thrown";
    } catch (const std::runtime_error& problem) {
      EXPECT_STREQ(problem.what(), "0");
    }
    EXPECT_EQ(running, 0);
  }
}

}  // namespace
}  // namespace hambrel
