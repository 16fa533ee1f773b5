// Accounts and directories that packages ask for: lines of passwd and its like, which come and go with transactions.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class Accounts : public testing::Test {
 protected:
  static constexpr const char* kTern =
      "[[accounts]]\nname = \"tern\"\ntext = \"keeper\"\nhome = \"/var/lib/tern\"\ngroups = [\"gulls\"]\n"
      "[[accounts]]\nname = \"gulls\"\nkind = \"group\"\n"
      "[[directories]]\npath = \"var/lib/tern\"\nuser = \"tern\"\ngroup = \"gulls\"\nmode = \"0750\"\n"
      "[[attributes]]\nfiles = \"usr/tern\"\nuser = \"tern\"\nmode = \"0600\"\n";

  void SetUp() override {
    // as an administrator may have left them: a comment, a line without an end, one of a network
    write_file(station.root() / "etc/passwd",
               "root:x:0:0::/root:/bin/sh\n# people\nann:x:1000:1000::/:/bin/sh\n+::::::");
    write_file(station.root() / "etc/group", "root:x:0:\nann:x:1000:\nwheel:x:210:ann\n");
    write_file(station.root() / "etc/shadow", "root:*:19000::::::\nann:secret:19000::::::\n", 0600);
    write_file(station.root() / "etc/gshadow", "root:*::\nwheel:!:ann:ann\n", 0600);
    station.pack("tern", "1-1", kTern, {{"usr/tern", "1"}});
    station.pack("tern", "2-1", kTern, {{"usr/tern", "2"}});
    station.pack("skua", "1-1", "[[accounts]]\nname = \"skua\"\ngroups = [\"wheel\"]\n", {{"usr/skua", "1"}});
  }
  void done(std::vector<std::string> words) const {
    words.emplace_back("-y");
    const Ran ran = station.hambrel(words);
    EXPECT_EQ(ran.code, 0) << words[0] << ": " << ran.out << ran.err;
  }
  std::string content(const std::string& path) const { return read_file(station.root() / path); }
  void add_line(const std::string& path, const std::string& line) const {
    const std::string text = content(path);
    write_file(station.root() / path, text + (text.ends_with('\n') ? "" : "\n") + line + "\n",
               path.ends_with("shadow") ? 0600 : 0644);
  }
  static std::string owner(const fs::path& path) { return run({"stat", "-c", "%u:%g %a", path.string()}).out; }
  Station station;
};

TEST_F(Accounts, AreMadeWithTheirPackageAndTheRestStaysByteForByte) {
  station.open();
  const auto before = station.contents();
  const Ran plan = station.hambrel({"install", "tern=1", "-n"});
  EXPECT_THAT(plan.out,
              AllOf(HasSubstr("create  tern   user and group 201  keeper  for tern"), HasSubstr("group 200")));
  EXPECT_EQ(station.contents(), before);
  done({"install", "tern=1"});
  EXPECT_EQ(content("etc/passwd"),
            "root:x:0:0::/root:/bin/sh\n# people\nann:x:1000:1000::/:/bin/sh\n"
            "tern:x:201:201:keeper:/var/lib/tern:/usr/sbin/nologin\n+::::::\n");
  EXPECT_EQ(content("etc/group"), "root:x:0:\nann:x:1000:\nwheel:x:210:ann\ngulls:x:200:tern\ntern:x:201:\n");
  EXPECT_THAT(content("etc/shadow"), HasSubstr("ann:secret:19000::::::\ntern:!*:"));
  EXPECT_EQ(content("etc/gshadow"), "root:*::\nwheel:!:ann:ann\ngulls:!::tern\ntern:!::\n");
  EXPECT_EQ(owner(station.root() / "etc/shadow"), "0:0 600\n");
  // files and directories of the new account, which the machine does not have
  EXPECT_EQ(owner(station.root() / "usr/tern"), "201:0 600\n");
  EXPECT_EQ(owner(station.root() / "var/lib/tern"), "201:200 750\n");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  done({"undo", "1"});
  EXPECT_EQ(station.contents(), before) << "the missing end of the last line included";
  done({"redo", "1"});
  EXPECT_EQ(owner(station.root() / "usr/tern"), "201:0 600\n");
}

TEST_F(Accounts, ADirectoryThatIsThereIsGivenToThem) {
  station.pack("tern", "0-1", "[[directories]]\npath = \"var/lib/tern\"\n", {{"usr/tern", "0"}});
  station.open();
  done({"install", "tern=0"});
  write_file(station.root() / "var/lib/tern/egg", "egg");
  EXPECT_EQ(owner(station.root() / "var/lib/tern"), "0:0 755\n");
  done({"upgrade"});
  EXPECT_EQ(owner(station.root() / "var/lib/tern"), "201:200 750\n");
  done({"undo", "2"});
  EXPECT_EQ(owner(station.root() / "var/lib/tern"), "0:0 755\n");
}

TEST_F(Accounts, StayWithTheirNumberWhenThePackageGoesAndComesAgain) {
  station.open();
  done({"install", "tern=1"});
  const std::string passwd = content("etc/passwd");
  done({"remove", "tern"});
  EXPECT_EQ(content("etc/passwd"), passwd) << "files may still belong to it";
  add_line("etc/passwd", "late:x:202:202::/:/bin/sh");
  done({"install", "tern"});
  EXPECT_THAT(content("etc/passwd"), HasSubstr("tern:x:201:201:"));
  EXPECT_THAT(station.hambrel({"ledger", "show", "1"}).out, HasSubstr("create  tern   user and group 201"));
  EXPECT_THAT(station.hambrel({"ledger", "show", "3"}).out, Not(HasSubstr("user and group")));
}

TEST_F(Accounts, UndoTakesOutItsLinesHoweverTheFilesWereEditedSince) {
  station.open();
  done({"install", "tern=1"});
  done({"install", "skua"});
  EXPECT_THAT(content("etc/group"), HasSubstr("wheel:x:210:ann,skua\n"));
  add_line("etc/passwd", "bob:x:1001:1001::/:/bin/sh");
  add_line("etc/shadow", "bob:secret:19000::::::");
  const Ran plan = station.hambrel({"undo", "1", "-n"});
  EXPECT_THAT(plan.out, HasSubstr("remove  tern"));
  done({"undo", "1"});
  EXPECT_THAT(content("etc/passwd"), AllOf(HasSubstr("skua:"), HasSubstr("bob:"), Not(HasSubstr("tern"))));
  EXPECT_THAT(content("etc/group"), AllOf(HasSubstr("wheel:x:210:ann,skua\n"), Not(HasSubstr("gulls"))));
  EXPECT_THAT(content("etc/shadow"), AllOf(HasSubstr("bob:secret"), Not(HasSubstr("tern"))));
  EXPECT_EQ(owner(station.root() / "etc/shadow"), "0:0 600\n");
  done({"undo", "2"});
  EXPECT_THAT(content("etc/group"), HasSubstr("wheel:x:210:ann\n"));
  EXPECT_THAT(content("etc/passwd"), AllOf(HasSubstr("bob:"), Not(HasSubstr("skua"))));
  done({"redo", "1"});
  EXPECT_THAT(content("etc/passwd"), AllOf(HasSubstr("bob:"), HasSubstr("tern:x:201:201")));
  EXPECT_THAT(content("etc/group"), HasSubstr("gulls:x:200:tern\n"));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Accounts, WhatDoesNotFitIsRefusedByName) {
  const auto add = [&](const std::string& name, const std::string& account) {
    station.pack(name, "1-1", "[[accounts]]\n" + account, {{"usr/" + name, "1"}});
  };
  add("a", "name = \"ann\"\n");
  add("b", "name = \"odd\"\nid = 210\nkind = \"group\"\n");
  add("c", "name = \"odd\"\ngroups = [\"nowhere\"]\n");
  add("d", "name = \"wheel\"\nkind = \"group\"\nid = 300\n");
  station.open();
  const auto before = station.files();
  const auto refused = [&](const std::string& package, const std::string& why) {
    const Ran ran = station.hambrel({"install", package, "-y"});
    EXPECT_EQ(ran.code, 3) << package;
    EXPECT_THAT(ran.err, HasSubstr(why));
    EXPECT_EQ(station.files(), before);
  };
  refused("a", "a needs the user \"ann\", which exists here as a person's (id 1000)");
  refused("b", "needs the id 210 for its group \"odd\", but \"wheel\" has it");
  refused("c", "needs the group \"nowhere\" for its user \"odd\"");
  refused("d", "which exists here with id 210, not 300");
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[accounts]\nrange = [210, 210]\n");
  refused("tern", "no id from 210 to 210 is free");
}

TEST_F(Accounts, APurgeTakesWhatLiesInTheDirectoriesToo) {
  station.open();
  done({"install", "tern=1"});
  write_file(station.root() / "var/lib/tern/deep/egg", "egg");
  done({"remove", "tern"});
  EXPECT_TRUE(fs::exists(station.root() / "var/lib/tern/deep/egg"));
  done({"undo", "2"});
  done({"remove", "--purge", "tern"});
  EXPECT_FALSE(fs::exists(station.root() / "var/lib/tern"));
  done({"undo", "4"});
  EXPECT_EQ(content("var/lib/tern/deep/egg"), "egg");
}

TEST_F(Accounts, APurgeTakesOutThoseThatOwnNothingAnyMore) {
  station.open();
  const auto files = [&] {
    return content("etc/passwd") + "|" + content("etc/group") + "|" + content("etc/shadow") + "|" +
           content("etc/gshadow");
  };
  done({"install", "skua"});
  done({"remove", "skua"});
  EXPECT_THAT(files(), HasSubstr("skua:")) << "without --purge they stay";
  done({"install", "skua", "tern=1"});
  add_line("etc/passwd", "bob:x:1001:1001::/:/bin/sh");
  write_file(station.root() / "var/log/tern", "seen\n");
  ASSERT_EQ(run({"chown", "202", (station.root() / "var/log/tern").string()}).code, 0);
  const auto before = station.contents();
  const Ran ran = station.hambrel({"remove", "tern", "skua", "--purge", "-y"});
  EXPECT_THAT(ran.out, AllOf(HasSubstr("/var/log/tern belongs to the account"), HasSubstr("remove  skua")));
  EXPECT_THAT(files(),
              AllOf(Not(HasSubstr("skua")), HasSubstr("tern:x:202"), HasSubstr("bob:"), HasSubstr("wheel:!:ann:ann")));
  const std::string last = std::to_string(station.json({"ledger", "--most", "1"})["id"].get<int>());
  done({"undo", last});
  EXPECT_EQ(station.contents(), before);
  // one that was there before is not Hambrel's
  done({"remove", "skua", "--purge"});
  add_line("etc/passwd", "skua:x:207:207::/:/bin/sh");
  add_line("etc/group", "skua:x:207:");
  done({"install", "skua"});
  done({"remove", "skua", "--purge"});
  EXPECT_THAT(files(), HasSubstr("skua:x:207"));
}

TEST_F(Accounts, ArePreparedAndSurviveBeingKilled) {
  station.open();
  const auto before = station.contents();
  for (const std::string step : {"staged", "journaled", "moved:1", "moved:3", "moved:5", "switched"}) {
    EXPECT_EQ(station.hambrel({"install", "tern=1", "-y"}, {{"HAMBREL_TEST_DIE_AT", step}}).code, 137);
    ASSERT_EQ(station.hambrel({"recover"}).code, 0);
    EXPECT_EQ(station.contents(), before) << step;
  }
  done({"install", "tern=1", "--prepare"});
  add_line("etc/passwd", "bob:x:1001:1001::/:/bin/sh");
  const Ran late = station.hambrel({"activate", "-y"});
  EXPECT_EQ(late.code, 3);
  EXPECT_THAT(late.err, HasSubstr("/etc/passwd"));
  done({"activate", "--discard"});
  done({"install", "tern=1", "--prepare"});
  done({"activate"});
  EXPECT_THAT(content("etc/passwd"), AllOf(HasSubstr("bob:"), HasSubstr("tern:x:201")));
  const std::string last = std::to_string(station.json({"ledger", "--most", "1"})["id"].get<int>());
  done({"undo", last});
  for (const std::string step : {"journaled", "moved:2", "switched"}) {
    EXPECT_EQ(station.hambrel({"redo", last, "-y"}, {{"HAMBREL_TEST_DIE_AT", step}}).code, 137);
    ASSERT_EQ(station.hambrel({"recover"}).code, 0);
    EXPECT_THAT(content("etc/passwd"), Not(HasSubstr("tern")));
  }
}

TEST_F(Accounts, WaitForWhoeverElseIsChangingThem) {
  station.open();
  write_file(station.root() / "etc/.pwd.lock", "");
  const std::string hold =
      "import fcntl, sys, time; f = open(sys.argv[1], 'r+'); fcntl.lockf(f, fcntl.LOCK_EX);"
      " open(sys.argv[2], 'w').close(); time.sleep(1.5); open(sys.argv[2] + '.done', 'w').close()";
  const std::string lock = (station.root() / "etc/.pwd.lock").string(), sign = station.path("locked").string();
  run({"sh", "-c",
       "python3 -c \"" + hold + "\" " + lock + " " + sign + " & while [ ! -e " + sign + " ]; do sleep 0.05; done"});
  done({"install", "tern=1"});
  EXPECT_TRUE(fs::exists(sign + ".done")) << "it was done while somebody else held the lock";
}

}  // namespace hambrel::test
