#include "repo/digest_batch.h"

#include <gtest/gtest.h>

#include <cstring>
#include <string>

namespace hambrel::repo {
namespace {

DigestBatch::Open holds(std::string content) {
  return [content = std::move(content)] {
    return MessageToRead{content.size(), [content](std::uint64_t at, std::span<std::byte> into) {
                           std::memcpy(into.data(), content.data() + at, into.size());
                         }};
  };
}

TEST(DigestBatch, WhatCanNotBeReadConcernsNoneOfTheOthers) {
  const std::string large(200'000, 'x');
  std::vector<DigestBatch::Open> files;
  for (int i = 0; i < 20; ++i) files.push_back(holds(large + std::to_string(i)));
  files[3] = []() -> MessageToRead { throw Error(ErrorCode::Io, "cannot open"); };
  files[7] = [] {
    return MessageToRead{100'000, [](std::uint64_t at, std::span<std::byte>) {
                           if (at > 0) throw Error(ErrorCode::Io, "became shorter");
                         }};
  };
  std::promise<void> told;
  DigestBatch batch(files, [&] { told.set_value(); });
  if (!batch.is_ready()) told.get_future().wait();
  EXPECT_TRUE(batch.is_ready());
  const auto results = batch.results();
  ASSERT_EQ(results.size(), files.size());
  for (std::size_t i = 0; i < results.size(); ++i) {
    if (i == 3 || i == 7) {
      EXPECT_EQ(results[i].problem.value().problem(), i == 3 ? "cannot open" : "became shorter");
    } else {
      EXPECT_FALSE(results[i].problem) << i;
      EXPECT_EQ(results[i].digest, sha256(large + std::to_string(i))) << i;
    }
  }
}

}  // namespace
}  // namespace hambrel::repo
