#include "model/manifest.h"

#include <gtest/gtest.h>

#include <random>

#include "base/error.h"

namespace hambrel {

namespace {

constexpr const char* kGood = R"(name = "lampdesk"
version = "1:5.4-1"
arch = "x86_64"
summary = "operator desk"
license = "MIT"
restart = "session"
parallel = 2
[relations]
requires = ["libbuoy >= 2 | libbuoy-static", "saltdb"]
provides = ["lamp-control = 5"]
conflicts = ["foghorn < 1"]
replaces = ["lamp-desk"]
[config]
files = ["etc/lampdesk/*.toml"]
[[attributes]]
files = "usr/libexec/*"
user = "lamp"
mode = "4755"
)";

std::string problem_with(std::string from, const std::string& to) {
  std::string text = kGood;
  text.replace(text.find(from), from.size(), to);
  try {
    parse_package_toml(text, "package.toml");
  } catch (const Error& error) {
    return std::string(error.what()) + " -> " + error.hint();
  }
  return "accepted";
}

}  // namespace

TEST(Manifest, EverythingComesThroughTomlAndJson) {
  const PackageSource source = parse_package_toml(kGood, "package.toml");
  EXPECT_EQ(source.attributes.at(0).mode, 04755);
  const Package again = parse_manifest(manifest_text(source.package), "manifest");
  EXPECT_EQ(manifest_text(again), manifest_text(source.package));
  EXPECT_EQ(again.requires_, source.package.requires_);
  EXPECT_EQ(again.version.text(), "1:5.4-1");
  EXPECT_EQ(again.parallel, 2U);
}

TEST(Manifest, EachMistakeIsToldWithItsLine) {
  EXPECT_EQ(problem_with("name = \"lampdesk\"", "name = \"Lamp Desk\""),
            "package.toml:1: name must be a package name: lower-case letters, digits and + . _ - -> ");
  EXPECT_EQ(problem_with("version = \"1:5.4-1\"", "version = \"5.4-1-2\""),
            "package.toml:2: version must be a version, [EPOCH:]UPSTREAM[-REVISION], such as 2.1-3 -> ");
  EXPECT_EQ(problem_with("version = \"1:5.4-1\"\n", ""),
            "package.toml:1: version is missing -> add version = ... (a version, [EPOCH:]UPSTREAM[-REVISION])");
  EXPECT_EQ(problem_with("conflicts =", "conflict ="),
            "package.toml:11: unknown key \"conflict\" in [relations] -> did you mean conflicts?");
  EXPECT_EQ(problem_with("foghorn < 1", "foghorn < "),
            "package.toml:11: \"foghorn <\" has no valid version after the operator -> write NAME OP VERSION with OP "
            "one of = != < <= > >=, "
            "for example libbuoy >= 2.3");
  EXPECT_EQ(problem_with("parallel = 2", "parallel = \"2\""),
            "package.toml:7: parallel must be a whole number from 1 to 100 -> ");
  EXPECT_EQ(problem_with("mode = \"4755\"", "mode = \"4855\""),
            "package.toml:18: attributes.mode must be an octal text such as \"4755\" -> ");
  EXPECT_EQ(problem_with("lamp-control = 5", "lamp-control > 5"),
            "package.toml:10: relations.provides must be a list of NAME or NAME = VERSION -> ");
  EXPECT_TRUE(problem_with("restart = \"session\"", "restart = \"now").starts_with("package.toml:6: not valid TOML: "));
}

TEST(Manifest, RandomDamageIsAnErrorWithAPlaceNeverACrash) {
  std::mt19937 random(3);
  for (int round = 0; round < 3000; ++round) {
    std::string text = kGood;
    for (auto count = 1 + random() % 3; count > 0; --count) {
      const std::size_t at = random() % text.size();
      if (random() % 2 == 0)
        text.erase(at, random() % 8);
      else
        text.insert(at, 1, "\"[]=#\n\x01\xFFx1-"[random() % 11]);
      if (text.empty()) break;
    }
    try {
      parse_package_toml(text, "package.toml");
    } catch (const Error& error) {
      EXPECT_TRUE(error.where().starts_with("package.toml")) << error.what();
    }
  }
}

TEST(Manifest, PathsThatLeaveTheRootAreNamed) {
  EXPECT_EQ(path_problem("usr/bin/lampdesk"), "");
  EXPECT_EQ(path_problem("usr/../../etc/shadow"), "a path with '.' or '..'");
  EXPECT_EQ(path_problem("/etc/shadow"), "an absolute path");
  EXPECT_EQ(path_problem("usr//bin"), "a path with an empty part");
  EXPECT_EQ(path_problem("usr/b\033n"), "a path with a control character");
  EXPECT_EQ(path_problem(std::string("usr/") + "\xFF"), "a path that is not UTF-8");
  EXPECT_EQ(path_problem(std::string(256, 'a')), "a name longer than 255 bytes");
}

}  // namespace hambrel
