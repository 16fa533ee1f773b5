#include "repo/digest_queue.h"

#include <gtest/gtest.h>

#include <atomic>
#include <cstring>
#include <map>
#include <string>

namespace hambrel::repo {
namespace {

DigestQueue::Open holds(std::string content) {
  return [content = std::move(content)] {
    return MessageToRead{content.size(), [content](std::uint64_t at, std::span<std::byte> into) {
                           std::memcpy(into.data(), content.data() + at, into.size());
                         }};
  };
}

TEST(DigestQueue, EachFileIsToldOnceAndWhatCanNotBeReadConcernsNoneOfTheOthers) {
  constexpr std::size_t kFiles = 60;
  const std::string large(200'000, 'x');
  std::atomic<int> told = 0;
  DigestQueue queue(16, [&] { ++told; });
  std::map<std::size_t, DigestQueue::Result> results;
  const auto take = [&] {
    for (DigestQueue::Result& one : queue.take()) EXPECT_TRUE(results.emplace(one.number, one).second) << one.number;
  };
  for (std::size_t i = 0; i < kFiles; ++i) {
    if (i == 3)
      queue.add(i, []() -> MessageToRead { throw Error(ErrorCode::Io, "cannot open"); });
    else if (i == 7)
      queue.add(i, [] {
        return MessageToRead{100'000, [](std::uint64_t at, std::span<std::byte>) {
                               if (at > 0) throw Error(ErrorCode::Io, "became shorter");
                             }};
      });
    else
      queue.add(i, holds(large + std::to_string(i)));
    take();
  }
  EXPECT_TRUE(queue.has_thread());
  while (results.size() < kFiles) {
    queue.help();
    take();
  }
  for (const auto& [i, result] : results) {
    if (i == 3 || i == 7) {
      EXPECT_EQ(result.problem.value().problem(), i == 3 ? "cannot open" : "became shorter");
    } else {
      EXPECT_FALSE(result.problem) << i;
      EXPECT_EQ(result.digest, sha256(large + std::to_string(i))) << i;
    }
  }
}

TEST(DigestQueue, AFewAreToldWithoutOthersComingAndWithoutHelp) {
  std::promise<void> told;
  DigestQueue queue(16, [&] { told.set_value(); });
  queue.add(5, holds("alone"));
  told.get_future().wait();
  const auto results = queue.take();
  ASSERT_EQ(results.size(), 1U);
  EXPECT_EQ(results[0].digest, sha256("alone"));
  EXPECT_TRUE(queue.take().empty());
}

}  // namespace
}  // namespace hambrel::repo
