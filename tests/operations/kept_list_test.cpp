#include "operations/kept_list.h"

#include <gtest/gtest.h>

#include "support/program.h"

namespace hambrel::operations {

TEST(KeptList, IsUsedForItsKeyOnlyNotPastTheEndOfAHoldAndNotDamaged) {
  const test::TempDir directory;
  const auto root = os::open_file_system(directory.text());
  root->make_directories(os::parent_of(kListFile));
  Candidate probe;
  probe.package.name = "probe";
  probe.package.version = Version::parse("1-1").value();
  probe.package.arch = "independent";
  probe.package.summary = "measures";
  probe.installed = Installed{};
  probe.installed->hold = Hold{100, 2000, "", "root"};
  Candidate later = probe;
  later.package.name = "gauge";
  later.installed->hold->until = 3000;
  const std::string text = "  gauge  1-1  wanted  held  measures\n  probe  1-1  wanted  held  measures\n";
  KeptList::keep(*root, "key\n", Universe({probe, later}), text);
  const auto kept = KeptList::open(*root, "key\n", 1999);
  ASSERT_TRUE(kept);
  EXPECT_EQ(kept->text(), text);
  EXPECT_FALSE(KeptList::open(*root, "key\n", 2000)) << "the first hold has ended";
  EXPECT_FALSE(KeptList::open(*root, "kex\n", 1999));
  EXPECT_FALSE(KeptList::open(*root, "key\n  gauge", 1999));
  const test::fs::path file = directory / kListFile;
  const std::string whole = test::read_file(file);
  for (std::size_t at = 0; at < whole.size(); ++at) {
    std::string damaged = whole;
    damaged[at] = static_cast<char>(damaged[at] ^ 1);
    test::write_file(file, damaged);
    EXPECT_FALSE(KeptList::open(*root, "key\n", 1999)) << at;
    test::write_file(file, whole.substr(0, at));
    EXPECT_FALSE(KeptList::open(*root, "key\n", 1999)) << at;
  }
}

}  // namespace hambrel::operations
