// Merges against libgit2's own, and against what a merge must be whoever does it.
#include "base/merge.h"

#include <git2.h>
#include <gtest/gtest.h>

#include <random>

namespace hambrel {

namespace {

using Lines = std::vector<std::string>;

std::string text_of(const Lines& lines) {
  std::string text;
  for (const std::string& line : lines) text += line + "\n";
  return text;
}

/// Some lines changed, taken out or put in.
Lines changed(Lines lines, std::mt19937& random, const std::string& whose) {
  const std::size_t edits = 1 + random() % 3;
  for (std::size_t i = 0; i < edits; ++i) {
    const auto at = lines.begin() + static_cast<std::ptrdiff_t>(random() % lines.size());
    switch (random() % 3) {
      case 0: *at += " = " + whose; break;
      case 1: lines.insert(at, whose + " " + std::to_string(i)); break;
      default:
        if (lines.size() > 1) lines.erase(at);
    }
  }
  return lines;
}

/// Straight from the library, linked, with its own defaults.
Merged by_library(const std::string& base, const std::string& mine, const std::string& theirs) {
  git_libgit2_init();
  const auto input = [](const std::string& text) {
    git_merge_file_input one = GIT_MERGE_FILE_INPUT_INIT;
    one.ptr = text.data();
    one.size = text.size();
    return one;
  };
  const auto a = input(base), b = input(mine), c = input(theirs);
  git_merge_file_result result{};
  EXPECT_EQ(git_merge_file(&result, &a, &b, &c, nullptr), 0);
  Merged merged{result.automergeable != 0, std::string(result.ptr == nullptr ? "" : result.ptr, result.len)};
  git_merge_file_result_free(&result);
  return merged;
}

}  // namespace

TEST(Merge, AHundredGeneratedCasesAreTheLibrarysOwn) {
  std::mt19937 random(7);
  int clean = 0;
  for (int i = 0; i < 100; ++i) {
    Lines lines;
    for (std::size_t k = 0; k < 5 + random() % 20; ++k) lines.push_back("key" + std::to_string(k));
    const std::string base = text_of(lines), mine = text_of(changed(lines, random, "mine")),
                      theirs = text_of(changed(lines, random, "theirs"));
    const Merged ours = merge(base, mine, theirs), library = by_library(base, mine, theirs);
    ASSERT_EQ(ours.clean, library.clean) << base << "---\n" << mine << "---\n" << theirs;
    const std::string as_library = ours.clean ? library.text : ours.text;
    ASSERT_EQ(ours.text, as_library);
    ASSERT_EQ(has_markers(ours.text), !ours.clean);
    const Merged turned = merge(base, theirs, mine);  // whose change is whose does not matter
    ASSERT_EQ(turned.clean, ours.clean);
    ASSERT_TRUE(!ours.clean || turned.text == ours.text);
    clean += ours.clean ? 1 : 0;
  }
  std::printf("%d of 100 merge cleanly\n", clean);
  EXPECT_GT(clean, 20);
  EXPECT_LT(clean, 90);
}

TEST(Merge, WhatOnlyOneChangedIsThatChange) {
  EXPECT_EQ(merge("a\nb\n", "a\nB\n", "a\nb\n").text, "a\nB\n");
  EXPECT_EQ(merge("a\nb\n", "a\nb\n", "a\nb\nc").text, "a\nb\nc");
  EXPECT_EQ(merge("", "x\n", "").text, "x\n");
  EXPECT_TRUE(merge("a\n", "b\n", "b\n").clean);
}

TEST(Merge, ADiffOfTwoTextsTellsLinesAndTheirNumber) {
  const auto lines = diff("a\nb\nc\n", "a\nB\nc\nd");
  std::string shown;
  for (const DiffLine& one : lines) shown += "@ -+!"[static_cast<int>(one.kind)] + one.text + "|";
  EXPECT_EQ(shown, "@@@ -1,3 +1,4 @@| a|-b|+B| c|+d|!\\ No newline at end of file|") << shown;
  EXPECT_EQ(extent_of(lines).come, 2U);
  EXPECT_EQ(extent_of(lines).gone, 1U);
  EXPECT_TRUE(diff("same\n", "same\n").empty());
}

}  // namespace hambrel
