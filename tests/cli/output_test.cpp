#include "cli/terminal/progress.h"
#include "cli/terminal/table.h"

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

TEST(Output, RowsThatAreMadeInPortionsAreOneTable) {
  constexpr std::size_t kRows = 5000;
  const auto add = [](Table& table, std::size_t i) {
    const std::string name = "lamp" + std::string(i == kRows - 1 ? 30 : i % 7, 'p');
    table.row({{name}, {std::to_string(i), Style::Plain, true}, {"", Style::Plain, false, false, true}});
  };
  Table expected;
  for (std::size_t i = 0; i < kRows; ++i) add(expected, i);
  const Table table = Table::of_rows(kRows, Table(), add);
  EXPECT_EQ(table.text(), expected.text());
  EXPECT_EQ(table.fitted_text(30), expected.fitted_text(30));
  EXPECT_FALSE(table.empty());
  EXPECT_TRUE(Table::of_rows(0, Table(), add).empty());
}

TEST(Output, WhatYieldsIsLeftOutBeforeAnythingIsCut) {
  Table table;
  table.row({{"install"}, {"lampdesk"}, {"skerry-harbour", Style::Faint, false, false, true}, {"asked for"}});
  EXPECT_EQ(table.fitted_text(80), "  install  lampdesk  skerry-harbour  asked for\n");
  EXPECT_EQ(table.fitted_text(40), "  install  lampdesk  asked for\n");
}

TEST(Output, ATableFitsItsTerminalAndBreaksNoWord) {
  Table table;
  table.row({{"install"},
             {"lampdesk-plugins-signal"},
             {"5.4.1-1 -> 5.5.0-1"},
             {"12 KiB", Style::Plain, true},
             {"lampdesk recommends lampdesk-plugins-signal because lamps want signals"}});
  table.row({{"remove"}, {"horn"}, {"1-1"}, {"1.5 MiB", Style::Plain, true}, {"asked for"}});
  EXPECT_EQ(table.fitted_text(200), table.text()) << "where there is room, nothing is cut";
  EXPECT_EQ(table.fitted_text(80),
            "  install  lampdesk-plugin\xE2\x80\xA6  5.4.1-1 -> 5.5.\xE2\x80\xA6   12 KiB  lampdesk recommends\n"
            "                                                        lampdesk-plugins-signal\n"
            "                                                        because lamps want\n"
            "                                                        signals\n"
            "  remove   horn              1-1               1.5 MiB  asked for\n");
  for (std::size_t width = 80; width < 140; ++width) {
    std::size_t start = 0;
    const std::string text = table.fitted_text(width);
    for (std::size_t end = text.find('\n'); end != std::string::npos; start = end + 1, end = text.find('\n', start))
      EXPECT_LE(display_width(text.substr(start, end - start)), width) << text;
    EXPECT_NE(text.find("12 KiB"), std::string::npos) << "numbers are never cut";
  }
  EXPECT_EQ(cut_to("\xE5\x8C\x97\xE6\xB5\xB7\xE9\x81\x93", 4), "\xE5\x8C\x97\xE2\x80\xA6") << "wide characters";
  EXPECT_EQ(cut_to("su\xCC\x88\x64 wind", 4), "su\xCC\x88\x64\xE2\x80\xA6");
}

TEST(Output, ProgressFitsItsTerminal) {
  const Progress::State state{"fetching packages", "lampdesk/6.1-1.x86_64.hambrel", 12 << 20U,
                              48 << 20U,           Observer::Unit::Bytes,           4};
  EXPECT_EQ(Progress::text_of(state, 40), "fetching packages  12 MiB of 48 MiB");
  EXPECT_EQ(Progress::text_of(state, 80),
            "fetching packages  12 MiB of 48 MiB  12 s left  3.0 MiB/s  lampdesk/6.1-1.x86_\xE2\x80\xA6");
  EXPECT_EQ(Progress::text_of(state, 120),
            "fetching packages  ======..................  12 MiB of 48 MiB  12 s left  3.0 MiB/s  "
            "lampdesk/6.1-1.x86_64.hambrel");
  EXPECT_EQ(Progress::text_of({"planning", "", 0, 0, Observer::Unit::Items, 2.2}, 80), "planning  2 s");
  for (std::size_t columns = 10; columns < 200; ++columns)
    EXPECT_LT(display_width(Progress::text_of(state, columns)), columns);
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
}

TEST(Output, IsBrokenBetweenWordsAndNeverWithinACommand) {
  EXPECT_EQ(wrapped("one two three", 2, 9), "  one two\n  three\n");
  EXPECT_EQ(wrapped("one\n\ntwo", 1, 9), " one\n\n two\n");
  EXPECT_EQ(fitted("  a   b\n  1  two three", 2, 11), "  a   b\n  1  two\n    three\n");
  // a command is copied: half of one would do something else
  EXPECT_EQ(fitted("Now `hambrel activate --discard` drops it.", 0, 34),
            "Now `hambrel activate --discard`\ndrops it.\n");
  EXPECT_EQ(fitted("Now `hambrel activate --discard` drops it.", 0, 30),
            "Now\n`hambrel activate --discard`\ndrops it.\n");
  EXPECT_EQ(fitted("or drop it: hambrel repo drop x, then go on", 2, 22),
            "or drop it:\n  hambrel repo drop x,\n  then go on\n");
  EXPECT_EQ(fitted("so `hambrel activate --discard`", 0, 20), "so `hambrel activate --discard`\n");
  EXPECT_EQ(fitted("  1  hambrel remove x --purge", 2, 20), "  1  hambrel remove x --purge\n");
  EXPECT_EQ(fitted("hambrel keeps what was moved, and more", 0, 20), "hambrel keeps what\nwas moved, and more\n");
  EXPECT_EQ(wrapped("so `hambrel activate --discard`", 0, 20), "so `hambrel activate\n--discard`\n") << "a cell fits";
  Table table(0);
  table.row({{"next"}, {"staged; `hambrel activate`"}});
  EXPECT_EQ(table.fitted_text(30), "next  staged;\n      `hambrel activate`\n");
  EXPECT_EQ(fitted("so: hambrel  list  held", 0, 20), "so:\nhambrel  list  held\n");
  EXPECT_EQ(fitted("so: \033[32mhambrel remove x --purge\033[0m", 0, 24),
            "so:\n\033[32mhambrel remove x --purge\033[0m\n");
  EXPECT_EQ(fitted("so \033[1m`hambrel list`\033[0m tells", 0, 20), "so \033[1m`hambrel list`\033[0m\ntells\n");
  // what styles a word takes no room
  EXPECT_EQ(fitted("\033[1mone\033[0m two", 0, 7), "\033[1mone\033[0m two\n");
  EXPECT_EQ(fitted("\033[1mone\033[0m two three", 0, 7), "\033[1mone\033[0m two\nthree\n");
}

}  // namespace hambrel::cli
