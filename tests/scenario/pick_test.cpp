// Candidates: several packages can serve one path, and a link leads to the one that was picked.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::AllOf;
using testing::HasSubstr;

class Picking : public testing::Test {
 protected:
  void SetUp() override {
    for (const auto& [name, rank] : {std::pair("moored", "40"), std::pair("quill", "60"), std::pair("stylus", "50")})
      station.pack(
          name, "1-1",
          std::string("[[candidates]]\npath = \"usr/bin/editor\"\nfile = \"opt/") + name + "/bin/" + name +
              "\"\nrank = " + rank + "\nwith = [{path = \"usr/man/editor.1\", file = \"usr/man/" + name + ".1\"}]\n",
          {{std::string("opt/") + name + "/bin/" + name, name}, {std::string("usr/man/") + name + ".1", name}});
    station.pack("quill", "2-1", "", {{"opt/quill/bin/quill", "quill 2"}});
    station.pack("owning", "1-1", "", {{"usr/bin/editor", "a file"}});
    station.open();
  }
  void done(std::vector<std::string> words) const {
    words.emplace_back("-y");
    const Ran ran = station.hambrel(words);
    EXPECT_EQ(ran.code, 0) << words[0] << ": " << ran.out << ran.err;
  }
  /// Files without the times of links, which are made anew.
  std::map<std::string, std::string> contents() const {
    auto all = station.contents();
    for (auto& [path, facts] : all)
      if (path.find("editor") != std::string::npos) facts.clear();
    return all;
  }
  std::string serves() const {
    const fs::path link = station.root() / "usr/bin/editor", man = station.root() / "usr/man/editor.1";
    if (!fs::is_symlink(link)) return fs::exists(link) ? read_file(link) : "nothing";
    EXPECT_EQ(read_file(link), read_file(man)) << "what goes with it follows";
    EXPECT_FALSE(fs::read_symlink(link).is_absolute()) << "it holds wherever the root is";
    return read_file(link);
  }
  Station station;
};

TEST_F(Picking, TheHighestRankServesUnlessOneIsPicked) {
  done({"install", "moored"});
  EXPECT_EQ(serves(), "moored");
  done({"install", "quill=1", "stylus"});
  EXPECT_EQ(serves(), "quill");
  const Ran plan = station.hambrel({"pick", "/usr/bin/editor", "stylus", "-n"});
  EXPECT_THAT(plan.out, HasSubstr("link  /usr/bin/editor  -> /opt/stylus/bin/stylus  stylus  picked by you"));
  EXPECT_EQ(serves(), "quill");
  done({"pick", "/usr/bin/editor", "stylus"});
  EXPECT_EQ(serves(), "stylus");
  EXPECT_EQ(station.json({"owner", "/usr/bin/editor"})["made_by"]["package"], "stylus");
  // what was picked goes: the plan says so, and it serves again when it comes back
  EXPECT_THAT(station.hambrel({"remove", "stylus", "-n"}).out, HasSubstr("which you had picked, is gone"));
  done({"remove", "stylus"});
  EXPECT_EQ(serves(), "quill");
  done({"install", "stylus"});
  EXPECT_EQ(serves(), "stylus");
  done({"pick", "/usr/bin/editor", "auto"});
  EXPECT_EQ(serves(), "quill");
  done({"install", "quill=2"});  // a version that is no candidate any more
  EXPECT_EQ(serves(), "stylus");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Picking, GoingBackLeavesTheLinkThatIsRightThen) {
  const auto empty = contents();
  done({"install", "moored"});
  const auto first = contents();
  done({"install", "quill=1"});
  done({"pick", "/usr/bin/editor", "moored"});
  const auto picked = contents();
  done({"undo", "3"});
  EXPECT_EQ(serves(), "quill");
  done({"redo", "3"});
  EXPECT_EQ(contents(), picked);
  done({"undo", "1"});  // out of order: what is left serves
  EXPECT_EQ(serves(), "quill");
  done({"redo", "1"});
  EXPECT_EQ(serves(), "moored");
  done({"rollback", "1"});
  EXPECT_EQ(serves(), "moored");
  EXPECT_EQ(contents(), first);
  done({"remove", "moored"});
  EXPECT_EQ(serves(), "nothing");
  EXPECT_FALSE(fs::is_symlink(station.root() / "usr/bin/editor"));
  EXPECT_EQ(contents(), empty);
  done({"install", "moored"});
  done({"undo", "10"});
  EXPECT_EQ(contents(), empty);
}

TEST_F(Picking, WhatStandsInTheWayIsKeptOrRefused) {
  write_file(station.root() / "usr/bin/editor", "my own");
  EXPECT_THAT(station.hambrel({"install", "moored", "-n"}).out, HasSubstr("/usr/bin/editor"));
  done({"install", "moored"});
  EXPECT_EQ(serves(), "moored");
  done({"undo", "1"});
  EXPECT_EQ(serves(), "my own");
  fs::remove(station.root() / "usr/bin/editor");
  done({"install", "owning"});
  const Ran refused = station.hambrel({"install", "moored", "-y"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err, HasSubstr("moored is a candidate for this path, which belongs to owning"));
  done({"remove", "owning"});
  done({"install", "moored"});
  // a link that somebody made by hand stays, until one is picked
  fs::remove(station.root() / "usr/bin/editor");
  fs::create_symlink("../../etc/mine", station.root() / "usr/bin/editor");
  done({"install", "quill=1"});
  EXPECT_EQ(fs::read_symlink(station.root() / "usr/bin/editor"), "../../etc/mine");
  EXPECT_THAT(station.hambrel({"verify"}).out, HasSubstr("/usr/bin/editor"));
  done({"pick", "/usr/bin/editor", "moored"});
  EXPECT_EQ(serves(), "moored");
}

TEST_F(Picking, AMissingLinkIsDamageThatRepairMends) {
  done({"install", "moored"});
  fs::remove(station.root() / "usr/bin/editor");
  EXPECT_EQ(station.hambrel({"verify"}).code, 11);
  done({"repair"});
  EXPECT_EQ(serves(), "moored");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Picking, BadRequestsNameTheCandidates) {
  done({"install", "moored", "quill=1"});
  const Ran unknown = station.hambrel({"pick", "/usr/bin/pager", "less", "-y"});
  EXPECT_EQ(unknown.code, 1);
  EXPECT_THAT(unknown.err, HasSubstr("no installed package is a candidate for this path"));
  const Ran none = station.hambrel({"pick", "/usr/bin/editor", "pencil", "-y"});
  EXPECT_EQ(none.code, 1);
  EXPECT_THAT(none.err, AllOf(HasSubstr("quill"), HasSubstr("moored"), HasSubstr("auto")));
  EXPECT_THAT(station.hambrel({"pick", "/usr/bin/editor", "quill", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"pick", "/usr/bin/editor", "quill", "-y"}).out, HasSubstr("this is so already"));
}

}  // namespace hambrel::test
