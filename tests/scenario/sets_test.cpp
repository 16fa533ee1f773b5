// The set of packages of one root, brought to another one and compared.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

namespace {

using testing::HasSubstr;

class Sets : public testing::Test {
 protected:
  Sets() {
    write_file(station.repository() / "repository.toml", "[[channel]]\nname = \"beta\"\npackages = [\"lamp >= 2\"]\n");
    station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "1"}});
    station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "2"}});
    station.pack("lib", "1-1", "", {{"usr/lib/lib", "l"}});
    station.pack("desk", "1-1", "[relations]\nrequires = [\"lib\"]\n", {{"usr/bin/desk", "d"}});
    station.pack("moored", "1-1", "[[candidates]]\npath = \"usr/bin/editor\"\nfile = \"usr/bin/moored\"\nrank = 40\n",
                 {{"usr/bin/moored", "m"}});
    station.pack("small", "1-1", "[[candidates]]\npath = \"usr/bin/editor\"\nfile = \"usr/bin/small\"\nrank = 10\n",
                 {{"usr/bin/small", "s"}});
    station.open();
    fs::create_directories(other / "etc");
    EXPECT_EQ(at_other({"repo", "add", "base", "file://" + station.repository().string(), "--unsigned"}).code, 0);
    for (const auto& words : std::vector<std::vector<std::string>>{
             {"install", "desk", "moored", "small", "lamp@beta", "--follow"},
             {"pick", "/usr/bin/editor", "small"},
             {"hold", "desk", "--reason", "a \"quoted\" reason", "--until", "2090-01-31"}}) {
      auto all = words;
      all.push_back("-y");
      EXPECT_EQ(station.hambrel(all).code, 0) << words[0];
    }
  }
  Ran at_other(std::vector<std::string> words) const {
    words.insert(words.begin(), {HAMBREL_PROGRAM, "--root", other.string()});
    return run(words);
  }
  Station station;
  const fs::path other = station.path("other");
  const std::string file = station.path("station.set").string();
};

TEST_F(Sets, AnotherRootBecomesTheSameByOnePlanThatIsUndone) {
  EXPECT_EQ(station.hambrel({"export-set", file}).code, 0);
  const std::string text = read_file(file);
  EXPECT_THAT(text, HasSubstr("wanted = [\n  \"desk\",\n  \"lamp\",\n  \"moored\",\n  \"small\",\n]"));
  EXPECT_EQ(at_other({"install", "lib", "-y"}).code, 0);
  const auto before = tree(other, {"var/lib/hambrel", "var/cache", "etc/hambrel"});
  const Ran ran = at_other({"import-set", file, "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err << ran.out;
  const Ran differs = at_other({"compare", "--with", station.root().string(), "--exit-code"});
  EXPECT_EQ(differs.code, 10);
  EXPECT_EQ(differs.out.substr(0, differs.out.find("\n")).find("wanted"), 2) << "lib was wanted here: " << differs.out;
  EXPECT_EQ(at_other({"import-set", file, "--exact", "-y"}).code, 0);
  EXPECT_THAT(at_other({"compare", "--with", file, "--exit-code"}).out, HasSubstr("No difference"));
  EXPECT_EQ(fs::read_symlink(other / "usr/bin/editor"), "small");
  EXPECT_EQ(at_other({"export-set"}).out, text);
  EXPECT_THAT(at_other({"import-set", file, "-y"}).out, HasSubstr("othing to do"));
  EXPECT_EQ(at_other({"undo", "3", "-y"}).code, 0);
  EXPECT_EQ(at_other({"undo", "2", "-y"}).code, 0);
  for (const auto& [path, facts] : tree(other, {"var/lib/hambrel", "var/cache", "etc/hambrel"}))
    EXPECT_TRUE(facts.starts_with("40") || before.contains(path)) << path;
  EXPECT_FALSE(fs::exists(other / "usr/bin/editor"));
}

TEST_F(Sets, ExactVersionsAndWhatIsTooMuch) {
  EXPECT_EQ(station.hambrel({"export-set", file, "--versions"}).code, 0);
  EXPECT_THAT(read_file(file), HasSubstr("\"lamp=2-1\""));
  EXPECT_EQ(station.hambrel({"remove", "lamp", "-y"}).code, 0);
  station.pack("extra", "1-1", "", {{"usr/bin/extra", "e"}});
  station.publish();
  station.hambrel({"refresh"});
  EXPECT_EQ(station.hambrel({"install", "extra", "-y"}).code, 0);
  const auto listed = station.hambrel({"compare", "--with", file});
  EXPECT_THAT(listed.out, HasSubstr("package  extra  here  1-1  there  -"));
  EXPECT_THAT(listed.out, HasSubstr("package  lamp   here  -    there  2-1"));
  const Ran ran = station.hambrel({"import-set", file, "--exact", "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(station.installed(), "desk 1-1, lamp 2-1, lib 1-1, moored 1-1, small 1-1");
}

TEST_F(Sets, WhatIsWrongInAFileIsToldWithItsPlaceAndChangesNothing) {
  const auto before = station.files();
  const std::map<std::string, std::string> wrong{{"wanted = []\n", "is no set of packages"},
                                                 {"set = 2\nwanted = []\n", ":1"},
                                                 {"set = 1\nwanted = [\"-x y\"]\n", "-x y"},
                                                 {"set = 1\nwanted = [\"/usr/bin/x\"]\n", ":2"},
                                                 {"set = 1\n[holds.desk]\nuntil = \"soon\"\n", ":3"},
                                                 {"set = 1\n[picks]\neditor = \"small\"\n", ":3"},
                                                 {"set = 1\nmore = 2\n", "more"},
                                                 {"set = 1\nwanted = [\"nobody\"]\n", "nobody"}};
  for (const auto& [text, expected] : wrong) {
    write_file(file, text);
    const Ran ran = station.hambrel({"import-set", file, "-y"});
    EXPECT_NE(ran.code, 0) << text;
    EXPECT_THAT(ran.err, HasSubstr(expected)) << text;
  }
  EXPECT_EQ(station.hambrel({"compare"}).code, 2);
  EXPECT_EQ(station.hambrel({"compare", "--with", "/nowhere"}).code, 1);
  EXPECT_EQ(station.files(), before);
}

TEST_F(Sets, AnInstalledPackageBecomesItsFileAgain) {
  const std::string out = station.path("again.hambrel").string();
  const auto original = read_file(station.repository() / "packages/desk/1-1.independent.hambrel");
  const auto cache = station.root() / "var/cache/hambrel/packages";
  for (const bool cached : {true, false}) {  // copied, and packed from what is there
    if (!cached) fs::remove_all(cache);
    const Ran ran = station.hambrel({"pack", "--installed", "desk", "-o", out});
    EXPECT_EQ(ran.code, 0) << ran.err;
    EXPECT_THAT(ran.out, HasSubstr("the original, byte for byte"));
    EXPECT_EQ(read_file(out), original) << cached;
  }
  write_file(station.root() / "usr/bin/moored", "patched");
  const Ran changed = station.hambrel({"pack", "--installed", "moored", "-o", out});
  EXPECT_THAT(changed.out, HasSubstr("moored 1-1+modified"));
  EXPECT_THAT(changed.out, HasSubstr("changed since it was installed: /usr/bin/moored"));
  const Ran ran = at_other({"install", out, "--allow-unsigned", "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(read_file(other / "usr/bin/moored"), "patched");
  EXPECT_EQ(fs::read_symlink(other / "usr/bin/editor"), "moored") << "with all that it asks for";
  // a hard link that became a file of its own keeps its content, and what not everybody may read stays so
  const fs::path tree = station.path("tied");
  write_file(tree / "root/usr/bin/one", "same");
  fs::create_hard_link(tree / "root/usr/bin/one", tree / "root/usr/bin/two");
  write_file(tree / "package.toml", "name = \"tied\"\nversion = \"1-1\"\narch = \"independent\"\nsummary = \"t\"\n");
  const std::string tied = station.path("tied.hambrel").string();
  EXPECT_EQ(run({HAMBREL_PROGRAM, "pack", tree.string(), "-o", tied}).code, 0);
  EXPECT_EQ(station.hambrel({"install", tied, "--allow-unsigned", "-y"}).code, 0);
  fs::remove(station.root() / "usr/bin/two");
  write_file(station.root() / "usr/bin/two", "its own");
  fs::permissions(station.root() / "usr/bin/two", fs::perms::owner_read);
  EXPECT_THAT(station.hambrel({"pack", "--installed", "tied", "-o", out}).out,
              HasSubstr("changed since it was installed: /usr/bin/two"));
  EXPECT_EQ(fs::status(out).permissions(), fs::perms::owner_read | fs::perms::owner_write);
  EXPECT_EQ(at_other({"install", out, "--allow-unsigned", "-y"}).code, 0);
  EXPECT_EQ(read_file(other / "usr/bin/two"), "its own");
  EXPECT_EQ(read_file(other / "usr/bin/one"), "same");
  EXPECT_EQ(station.hambrel({"pack", "--installed", "gull", "-o", out}).code, 3);
  EXPECT_EQ(station.hambrel({"pack"}).code, 2);
}

}  // namespace

}  // namespace hambrel::test
