#include "os/early_writer.h"

#include <fcntl.h>
#include <gtest/gtest.h>

#include <future>
#include <vector>

#include "support/program.h"

namespace hambrel::os {

using test::TempDir;

/// Descriptors of this process that lead below `directory`.
std::size_t held_open_below(const std::string& directory) {
  std::size_t count = 0;
  for (const auto& one : std::filesystem::directory_iterator("/proc/self/fd")) {
    std::error_code gone;  // the one that lists them
    if (std::filesystem::read_symlink(one.path(), gone).string().starts_with(directory + "/")) ++count;
  }
  return count;
}

TEST(EarlyWriter, HoldsHardlyAFileOpenAndNoneOnceItHasSettled) {
  const TempDir directory;
  std::vector<Handle> files;
  for (int i = 0; i < 200; ++i) {
    files.emplace_back(::open((directory / std::to_string(i)).c_str(), O_WRONLY | O_CREAT | O_EXCL, 0600));
    ASSERT_EQ(::write(files.back().get(), "x", 1), 1);
  }
  EarlyWriter writer;
  const auto give = [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) writer.take(std::move(files[i]), 64 << 20);  // as if it were as large
  };
  auto other = std::async(std::launch::async, give, 100, 200);
  give(0, 100);
  other.get();
  EXPECT_LE(held_open_below(directory.text()), 2U) << "one that is being synced, one that will be";
  EXPECT_EQ(writer.settle(), 0);
  EXPECT_EQ(held_open_below(directory.text()), 0U) << "what is held open to be written to can't be executed";
}

TEST(EarlyWriter, AFailureIsToldOnceBySettling) {
  const TempDir directory;
  EarlyWriter writer;
  const int gone = ::open(directory.text().c_str(), O_RDONLY);
  ASSERT_EQ(::close(gone), 0);
  writer.take(Handle(gone), 64 << 20);  // which can be neither synced nor closed
  EXPECT_EQ(writer.settle(), EBADF);
  EXPECT_EQ(writer.settle(), 0);
}

}  // namespace hambrel::os
