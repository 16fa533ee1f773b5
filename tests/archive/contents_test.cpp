#include "archive/contents.h"

#include <gtest/gtest.h>

#include <random>

#include "base/digests.h"

namespace hambrel::archive {
namespace {

std::mt19937 random_numbers(11);

/// Few values for everything, so that two files are often alike in all but one of them.
std::string one_of(const std::vector<std::string>& texts) { return texts[random_numbers() % texts.size()]; }

FileEntry any_entry(const std::string& path) {
  FileEntry entry;
  entry.path = path;
  entry.type = static_cast<EntryType>(random_numbers() % 4);
  entry.mode = random_numbers() % 4 == 0 ? 04755 : 0644;
  entry.user = one_of({"root", "root", "root", "", "ada"});
  entry.group = one_of({"root", "root", "root", "ro", "a longer name of a group"});
  entry.mtime = random_numbers() % 4 == 0 ? 8 : 7;
  entry.config = random_numbers() % 4 == 0;
  if (entry.type == EntryType::File) {
    entry.size = random_numbers() % 4 == 0 ? UINT64_C(1) << 40 : 3;
    entry.digest = sha256(one_of({"a", "a", "a", "b"}));
  }
  if (entry.type == EntryType::Symlink || entry.type == EntryType::HardLink) entry.target = one_of({"x", "x", "xy"});
  if (random_numbers() % 4 == 0) entry.attributes["user.a"] = one_of({"", std::string("\0z", 2), "y"});
  if (random_numbers() % 8 == 0) entry.attributes["security.capability"] = "c";
  return entry;
}

bool is_equal(const FileEntry& a, const FileEntry& b) {
  return a.path == b.path && a.type == b.type && a.mode == b.mode && a.user == b.user && a.group == b.group &&
         a.mtime == b.mtime && a.size == b.size && a.digest == b.digest && a.target == b.target &&
         a.attributes == b.attributes && a.config == b.config;
}

TEST(Contents, SayAboutEachFileWhatTheTableSaid) {
  Table table;
  table.frames = {{0, 10, 512, sha256("f")}, {10, 5, kMostFrameBytes, sha256("g")}};
  for (int i = 0; i < 500; ++i) {
    Entry entry{any_entry("usr/" + std::to_string(1000 + i)), static_cast<std::uint32_t>(random_numbers() % 2),
                i % 7 == 0 ? kMostFrameBytes : random_numbers() % 512};
    table.entries.push_back(std::move(entry));
  }
  const Contents contents(table);
  ASSERT_EQ(contents.size(), table.entries.size());
  std::vector<std::string> privileged;
  for (std::size_t i = 0; i < contents.size(); ++i) {
    const Entry& said = table.entries[i];
    const Entry entry = contents.entry(i);
    ASSERT_TRUE(is_equal(entry, said)) << said.path;
    ASSERT_EQ(std::pair(entry.frame, entry.offset), std::pair(said.frame, said.offset));
    const FileList& files = contents.files();
    ASSERT_EQ(files.find(said.path), i);
    ASSERT_EQ(files.content_size(i), said.size);
    ASSERT_EQ(files.digest(i), said.digest);
    ASSERT_EQ(files.target(i), said.target);
    ASSERT_EQ(files.group(i), said.group);
    ASSERT_EQ(files.has_attributes(i), !said.attributes.empty());
    const bool rights = (said.mode & 06000U) != 0 || said.attributes.contains("security.capability");
    if (said.type == EntryType::File && rights) privileged.push_back(said.path);
  }
  EXPECT_EQ(privileged_files(contents.files()), privileged);
  const FileList some = contents.files().only({3, 4, 499});
  ASSERT_EQ(some.size(), 3U);
  EXPECT_TRUE(is_equal(some.entry(2), table.entries[499]));
}

TEST(FileLists, AFileIsTheSameByOneRuleInAListAndAlone) {
  std::size_t same = 0;
  for (int round = 0; round < 40; ++round) {
    std::vector<FileEntry> first, second;
    for (int i = 0; i < 60; ++i) {
      first.push_back(any_entry("a/" + std::to_string(100 + i)));
      second.push_back(any_entry("a/" + std::to_string(100 + i)));
      if (i % 3 == 0) second.back() = first.back();
      if (i % 6 == 0) second.back().config = !second.back().config;
      if (i % 9 == 0) second.back().mtime += 1;
    }
    const FileList before = FileList::of(first), after = FileList::of(second);
    for (std::size_t i = 0; i < before.size(); ++i) {
      const bool directory = first[i].type == EntryType::Directory;
      FileEntry as_first = second[i];
      as_first.config = first[i].config;
      if (directory) as_first.mtime = first[i].mtime;
      const bool expected = is_equal(first[i], as_first);
      ASSERT_EQ(before.same(i, second[i]), expected) << first[i].path;
      ASSERT_EQ(before.same(i, after, i), expected) << first[i].path;
      same += expected ? 1 : 0;
    }
  }
  EXPECT_GT(same, 500U);
}

}  // namespace
}  // namespace hambrel::archive
