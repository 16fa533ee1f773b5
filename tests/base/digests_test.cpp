#include "base/digests.h"

#include <gtest/gtest.h>

#include <random>

namespace hambrel {
namespace {

std::string random_bytes(std::size_t size, std::mt19937& random) {
  std::string bytes(size, '\0');
  for (char& byte : bytes) byte = static_cast<char>(random());
  return bytes;
}

TEST(Digests, OfManyAtOnceAreThoseOfEachAlone) {
  std::mt19937 random(1);
  for (const std::size_t count : {0, 1, 2, 3, 7, 8, 9, 15, 16, 17, 33, 100}) {
    for (const std::size_t most : {0, 1, 55, 56, 63, 64, 65, 119, 120, 128, 1000, 40'000}) {
      std::vector<std::string> contents;
      std::vector<std::span<const std::byte>> messages;
      for (std::size_t i = 0; i < count; ++i) contents.push_back(random_bytes(random() % (most + 1), random));
      for (const std::string& content : contents) messages.push_back(std::as_bytes(std::span(content)));
      for (const std::size_t lanes : {1, 8, 16}) {
        const std::vector<Digest> digests = sha256_of_each(messages, lanes);
        ASSERT_EQ(digests.size(), count);
        for (std::size_t i = 0; i < count; ++i)
          ASSERT_EQ(digests[i], sha256(contents[i])) << contents[i].size() << " bytes in " << lanes << " lanes";
      }
    }
  }
}

TEST(Digests, OfWhatIsReadPieceByPieceAreThoseOfTheWhole) {
  std::mt19937 random(2);
  for (const std::size_t count : {1, 2, 7, 16, 40}) {
    for (const std::size_t most : {0, 63, 64, 65, 1000, (64 << 10) - 9, 64 << 10, (64 << 10) + 1, 300'000}) {
      std::vector<std::string> contents;
      for (std::size_t i = 0; i < count; ++i)
        contents.push_back(random_bytes(i == 0 ? most : random() % (most + 1), random));
      std::vector<std::size_t> was_read(count);
      std::vector<MessageToRead> messages;
      for (std::size_t i = 0; i < count; ++i)
        messages.push_back({contents[i].size(), [&, i](std::uint64_t offset, std::span<std::byte> into) {
                              ASSERT_LE(into.size(), 64U << 10);
                              const auto bytes = std::as_bytes(std::span(contents[i])).subspan(offset, into.size());
                              std::copy(bytes.begin(), bytes.end(), into.begin());
                              was_read[i] += into.size();
                            }});
      for (const std::size_t lanes : {1, 8, 16}) {
        std::fill(was_read.begin(), was_read.end(), 0);
        const std::vector<Digest> digests = sha256_of_each(messages, lanes);
        for (std::size_t i = 0; i < count; ++i) {
          ASSERT_EQ(digests.at(i), sha256(contents[i])) << contents[i].size() << " bytes in " << lanes << " lanes";
          ASSERT_EQ(was_read[i], contents[i].size());
        }
      }
    }
  }
}

TEST(Digests, OfEverySizeAroundABlockAreThoseOfTheStandard) {
  std::vector<std::string> contents;
  for (std::size_t size = 0; size <= 200; ++size) contents.emplace_back(size, 'a');
  contents.emplace_back(1'000'000, 'a');
  std::vector<std::span<const std::byte>> messages;
  for (const std::string& content : contents) messages.push_back(std::as_bytes(std::span(content)));
  const std::vector<Digest> digests = sha256_of_each(messages);
  // FIPS 180-4, example of a million times 'a'
  EXPECT_EQ(digests.back().hex(), "cdc76e5c9914fb9281a1c7e284d73e67f1809a48a497200e046d39ccc7112cd0");
  for (std::size_t size = 0; size <= 200; ++size) EXPECT_EQ(digests[size], sha256(contents[size])) << size;
}

}  // namespace
}  // namespace hambrel
