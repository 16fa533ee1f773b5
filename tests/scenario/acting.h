// A station whose packages act: a shell and some programs in its root, and packages with hooks and triggers to choose
// from.
#pragma once

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <string>
#include <vector>

#include "scenario/station.h"

namespace hambrel::test {

inline std::string hook(const std::string& when, const std::string& script, const std::string& writes = "") {
  return "[[hooks]]\nwhen = [\"" + when + "\"]\nscript = '''\n" + script + "\n'''\nwrites = [" + writes + "]\n";
}

inline std::string trigger(const std::string& watches, const std::string& script, const std::string& writes) {
  return "[[triggers]]\nwatches = [\"" + watches + "\"]\nscript = '''\n" + script + "\n'''\nwrites = [\"" + writes +
         "\"]\n";
}

class Acting : public testing::Test {
 protected:
  void SetUp() override {
    if (run({"unshare", "-mpn", "--fork", "true"}).code != 0)
      GTEST_SKIP() << "no namespaces here: nothing can be rehearsed";
    const Ran ran = run({HAMBREL_SOURCE "/demo/userland.sh", station.root().string()});
    ASSERT_EQ(ran.code, 0) << ran.err;
    station.pack("chart", "1-1",
                 trigger("usr/charts/**", "cat /usr/charts/* > /usr/index 2> /dev/null || :", "usr/index"),
                 {{"usr/share/chart", "1"}});
    station.pack("north", "1-1", "", {{"usr/charts/north", "north 1\n"}});
    station.pack("north", "2-1", "", {{"usr/charts/north", "north 2\n"}});
    station.pack("south", "1-1", "", {{"usr/charts/south", "south\n"}});
    station.pack("saltdb", "1-1",
                 hook("install", "mkdir -p /var/lib/saltdb; echo made by $HAMBREL_NEW_VERSION > /var/lib/saltdb/store",
                      "\"var/lib/saltdb/**\""),
                 {{"usr/share/saltdb", "1"}});
    station.pack("saltdb", "2-1",
                 hook("upgrade", "echo $HAMBREL_OLD_VERSION to $HAMBREL_NEW_VERSION >> /var/lib/saltdb/store",
                      "\"var/lib/saltdb/**\""),
                 {{"usr/share/saltdb", "2"}});
  }
  /// What the last transaction ran.
  std::vector<std::string> ran() const {
    std::vector<std::string> packages;
    const auto last = station.json({"ledger", "--most", "1"})["id"].get<int>();
    const auto shown = station.json({"ledger", "show", std::to_string(last)});
    for (const auto& one : shown["runs"]) packages.push_back(one["package"].get<std::string>());
    return packages;
  }
  void done(std::vector<std::string> words) const {
    words.emplace_back("-y");
    const Ran ran = station.hambrel(words);
    EXPECT_EQ(ran.code, 0) << words[0] << ": " << ran.out << ran.err;
  }
  std::string content(const std::string& path) const {
    return fs::exists(station.root() / path) ? read_file(station.root() / path) : "(not there)";
  }
  /// An install is refused for this reason, and nothing has changed.
  void refused(const std::string& package, const std::string& reason) const {
    SCOPED_TRACE(package);
    const auto before = station.files();
    const Ran ran = station.hambrel({"install", package, "-y"});
    EXPECT_EQ(ran.code, 3) << ran.out;
    EXPECT_THAT(ran.err, testing::AllOf(testing::HasSubstr(reason), testing::HasSubstr("nothing was changed")));
    EXPECT_EQ(station.files(), before);
    EXPECT_THAT(station.installed(), testing::Not(testing::HasSubstr(package)));
    for (const char* const left : {"stage", "attic"})
      EXPECT_TRUE(!fs::exists(station.root() / "var/lib/hambrel" / left) ||
                  fs::is_empty(station.root() / "var/lib/hambrel" / left));
  }
  Station station;
};

}  // namespace hambrel::test
