#include "base/parallel.h"

#include <gtest/gtest.h>
#include <sched.h>

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

TEST(Parallel, WhatIsGatheredStandsInItsOrder) {
  for (const std::size_t count : {0, 1, 7, 5000})
    for (const unsigned workers : {1U, 3U}) {
      const auto found = gathered<std::size_t>(
          count, workers, 100,
          [](std::size_t i, std::vector<std::size_t>& values) { values.insert(values.end(), i % 3, i); });
      std::vector<std::size_t> expected;
      for (std::size_t i = 0; i < count; ++i) expected.insert(expected.end(), i % 3, i);
      EXPECT_EQ(found, expected);
    }
}

TEST(Parallel, WhatGoesOnAsideIsWaitedForAndTellsItsProblem) {
  EXPECT_EQ(aside([] { return 7; }).get(), 7);
  EXPECT_EQ(later([] { return 8; }).get(), 8);
  EXPECT_THROW(aside([]() -> int { throw std::runtime_error("no"); }).get(), std::runtime_error);
  std::atomic<int> done = 0;
  const auto work = [&] {
    std::this_thread::yield();
    ++done;
  };
  {
    Aside<void> first = aside(work);
    first = aside(work);
    EXPECT_GE(done, 1);  // what makes room was waited for
    const auto nobody_asks = later(work);
  }
  EXPECT_EQ(done, 2);
}

TEST(Parallel, ThreadsMayGoWhereTheirProcessMay) {
  const auto usable = [] {
    cpu_set_t set;
    CPU_ZERO(&set);
    EXPECT_EQ(sched_getaffinity(0, sizeof set, &set), 0);
    return set;
  };
  const cpu_set_t all = usable();
  for (int round = 0; round < 50; ++round) {
    const cpu_set_t aside_of_it = aside([&] { return aside(usable).get(); }).get();
    ASSERT_TRUE(CPU_EQUAL(&all, &aside_of_it));
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
