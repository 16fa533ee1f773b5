#include "cli/terminal/screen.h"

#include <gtest/gtest.h>

namespace hambrel::cli {

TEST(Output, WidthsAreThoseOfATerminal) {
  EXPECT_EQ(display_width("lampdesk"), 8U);
  EXPECT_EQ(display_width("s\xC3\xBC\x64"), 3U);
  EXPECT_EQ(display_width("su\xCC\x88\x64"), 3U);            // u and a combining mark
  EXPECT_EQ(display_width("\xE5\x8C\x97\xE6\xB5\xB7"), 4U);  // two wide characters
  EXPECT_EQ(display_width(""), 0U);
}

TEST(Output, TablesLineUpAndLeaveNoBlanksBehind) {
  Table table;
  table.row({{"s\xC3\xBC\x64"}, {"1", Style::Plain, true}, {""}});
  table.row({{"north"}, {"1000", Style::Plain, true}, {"x"}});
  testing::internal::CaptureStdout();
  table.print(Screen(Screen::Color::Never));
  std::fflush(stdout);
  EXPECT_EQ(testing::internal::GetCapturedStdout(), "  s\xC3\xBC\x64       1\n  north  1000  x\n");
}

TEST(Output, SizesTimesAndAges) {
  EXPECT_EQ(size_text(0), "0 B");
  EXPECT_EQ(size_text(1023), "1023 B");
  EXPECT_EQ(size_text(1536), "1.5 KiB");
  EXPECT_EQ(size_text(1023 * 1024), "1.0 MiB");
  EXPECT_EQ(size_text(5ULL << 40), "5.0 TiB");
  EXPECT_EQ(change_text(-2048), "-2.0 KiB");
  EXPECT_EQ(time_text(1'790'000'000), "2026-09-21 14:13 UTC");
  EXPECT_EQ(age_text(100, 90), "just now");
  EXPECT_EQ(age_text(7200, 0), "2 hours ago");
  EXPECT_EQ(age_text(60, 0), "1 minute ago");
  EXPECT_EQ(wrapped("one two three", 2, 9), "  one two\n  three\n");
}

}  // namespace hambrel::cli
