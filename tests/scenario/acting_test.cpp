// Packages that act: triggers and hooks run on a preview of the system, and what they wrote is part of the transaction.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <unistd.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

namespace {

std::string hook(const std::string& when, const std::string& script, const std::string& writes = "") {
  return "[[hooks]]\nwhen = [\"" + when + "\"]\nscript = '''\n" + script + "\n'''\nwrites = [" + writes + "]\n";
}

std::string trigger(const std::string& watches, const std::string& script, const std::string& writes) {
  return "[[triggers]]\nwatches = [\"" + watches + "\"]\nscript = '''\n" + script + "\n'''\nwrites = [\"" + writes +
         "\"]\n";
}

}  // namespace

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
    EXPECT_THAT(ran.err, AllOf(HasSubstr(reason), HasSubstr("nothing was changed")));
    EXPECT_EQ(station.files(), before);
    EXPECT_THAT(station.installed(), Not(HasSubstr(package)));
    for (const char* const left : {"stage", "attic"})
      EXPECT_TRUE(!fs::exists(station.root() / "var/lib/hambrel" / left) ||
                  fs::is_empty(station.root() / "var/lib/hambrel" / left));
  }
  Station station;
};

TEST_F(Acting, AHooksWorkComesWithItsPackageAndGoesWithAnUndo) {
  station.open();
  const auto empty = station.contents();
  const auto plan = station.json({"install", "saltdb=1", "-n"})["plan"];
  EXPECT_EQ(plan["runs"][0]["writes"], nlohmann::json({"/var/lib/saltdb/**"}));
  EXPECT_EQ(station.contents(), empty) << "a dry run runs nothing";
  done({"install", "saltdb=1"});
  EXPECT_EQ(content("var/lib/saltdb/store"), "made by 1-1\n");
  EXPECT_THAT(station.hambrel({"owner", "/var/lib/saltdb/store"}).out, HasSubstr("made by the hook of saltdb"));
  const auto first = station.contents();
  done({"upgrade"});
  EXPECT_EQ(content("var/lib/saltdb/store"), "made by 1-1\n1-1 to 2-1\n");
  EXPECT_EQ(ran(), std::vector<std::string>{"saltdb"});
  const auto second = station.contents();
  done({"undo", "2"});
  EXPECT_EQ(station.contents(), first);
  EXPECT_THAT(ran(), testing::IsEmpty()) << "it comes back by renames";
  done({"redo", "2"});
  EXPECT_EQ(station.contents(), second);
  done({"rollback", "1"});
  EXPECT_EQ(station.contents(), first);
  done({"undo", "1"});
  EXPECT_EQ(station.contents(), empty);
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Acting, DataOfAHookStaysWhenItsPackageGoesAndIsPurgedWithIt) {
  station.open();
  done({"install", "saltdb=1"});
  done({"remove", "saltdb"});
  EXPECT_EQ(content("var/lib/saltdb/store"), "made by 1-1\n");
  done({"undo", "2"});
  const auto there = station.contents();
  done({"remove", "--purge", "saltdb"});
  EXPECT_FALSE(fs::exists(station.root() / "var/lib/saltdb"));
  done({"undo", "4"});
  EXPECT_EQ(station.contents(), there);
}

TEST_F(Acting, ATriggerRunsOnceForAllThatItWatches) {
  station.open();
  done({"install", "north=1", "south", "chart"});
  EXPECT_EQ(content("usr/index"), "north 1\nsouth\n");
  EXPECT_EQ(ran(), std::vector<std::string>{"chart"});
  done({"upgrade"});
  EXPECT_EQ(content("usr/index"), "north 2\nsouth\n");
  done({"install", "saltdb=1"});
  EXPECT_EQ(ran(), std::vector<std::string>{"saltdb"}) << "nothing that it watches has changed";
  done({"remove", "south"});
  EXPECT_EQ(content("usr/index"), "north 2\n");
  // what it made goes with its package, and comes back with it
  done({"remove", "chart"});
  EXPECT_EQ(content("usr/index"), "(not there)");
  done({"undo", "5"});
  EXPECT_EQ(content("usr/index"), "north 2\n");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Acting, UndoingAnEarlierChangeMakesItAnewAndNotOld) {
  station.open();
  done({"install", "chart"});
  done({"install", "north=1"});
  done({"install", "south"});
  done({"undo", "2"});
  EXPECT_EQ(content("usr/index"), "south\n");
  EXPECT_EQ(ran(), std::vector<std::string>{"chart"});
  done({"redo", "2"});
  EXPECT_EQ(content("usr/index"), "north 1\nsouth\n");
  done({"rollback", "1"});
  EXPECT_EQ(content("usr/index"), "");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Acting, WhatFailsChangesNothingAndSaysWhy) {
  station.pack("failing", "1-1", hook("install", "echo the pump is stuck; exit 3"), {{"usr/failing", "1"}});
  station.pack("absent", "1-1", "[[hooks]]\nwhen = [\"install\"]\nrun = [\"/usr/bin/nothing-there\"]\n",
               {{"usr/absent", "1"}});
  station.pack("writing", "1-1", hook("install", "echo > /etc/junk"), {{"usr/writing", "1"}});
  station.pack("taking", "1-1", hook("install", "rm /usr/bin/cat", "\"usr/bin/*\""), {{"usr/taking", "1"}});
  station.pack("altering", "1-1", hook("install", "echo > /usr/charts/north", "\"usr/charts/*\""),
               {{"usr/altering", "1"}});
  station.open();
  done({"install", "north=1"});
  done({"undo", "1"});
  done({"undo", "2"});  // the attic is empty, the root has a ledger
  fs::remove_all(station.root() / "var/lib/hambrel/attic");
  refused("failing", "the hook of failing failed: its script returned 3: the pump is stuck");
  const auto last = station.json({"ledger", "--most", "1"})["id"].get<int>();
  EXPECT_THAT(station.hambrel({"ledger", "show", std::to_string(last)}).out, HasSubstr("the pump is stuck"));
  refused("absent", "could not be started (No such file or directory)");
  refused("writing", "/etc/junk: the hook of writing wrote this, which the package does not declare");
  refused("altering", "/usr/charts/north: the hook of altering changed a file of north");
}

TEST_F(Acting, AHookBeforeARemovalSeesTheSystemAsItWas) {
  station.pack("logbook", "1-1",
               hook("remove", "cat /usr/logbook > /var/kept; [ -d /proc/1 ]", "\"var/kept\"") + "before = true\n" +
                   hook("remove", "[ ! -e /usr/logbook ] && echo gone >> /var/kept", "\"var/kept\""),
               {{"usr/logbook", "entries\n"}});
  station.open();
  done({"install", "logbook"});
  const auto before = station.contents();
  done({"remove", "logbook"});
  EXPECT_EQ(content("var/kept"), "entries\ngone\n");
  done({"undo", "2"});
  EXPECT_EQ(station.contents(), before);
}

TEST_F(Acting, WhatIsNotDeclaredCanBeDiscarded) {
  station.pack("writing", "1-1",
               hook("install", "echo > /etc/junk; echo kept > /etc/good; chmod 700 /etc", "\"etc/good\""),
               {{"usr/writing", "1"}});
  station.open();
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[hooks]\nundeclared = \"discard\"\n");
  done({"install", "writing"});
  EXPECT_EQ(content("etc/good"), "kept\n");
  EXPECT_EQ(content("etc/junk"), "(not there)");
  EXPECT_NE(fs::status(station.root() / "etc").permissions(), fs::perms::owner_all);
}

TEST_F(Acting, TheAdministratorCanForbidOrPostponeThem) {
  station.open();
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[hooks]\nallow = \"none\"\n");
  const Ran forbidden = station.hambrel({"install", "saltdb=1", "-y"});
  EXPECT_EQ(forbidden.code, 3);
  EXPECT_THAT(forbidden.err, HasSubstr("allows no programs of packages"));
  // the same for one repository
  fs::remove(station.root() / "etc/hambrel/hambrel.toml");
  const fs::path file = station.root() / "etc/hambrel/repos/base.toml";
  const std::string before = read_file(file);
  write_file(file, before + "hooks = \"none\"\n");
  const Ran distrusted = station.hambrel({"install", "saltdb=1", "-y"});
  EXPECT_EQ(distrusted.code, 3);
  EXPECT_THAT(distrusted.err, HasSubstr("the file of repository base allows no programs"));
  done({"install", "saltdb=1", "--without-hooks"});
  EXPECT_EQ(content("var/lib/saltdb/store"), "(not there)");
  const Ran verified = station.hambrel({"verify"});
  EXPECT_EQ(verified.code, 11);
  EXPECT_THAT(verified.out, HasSubstr("the hook of saltdb is due"));
  write_file(file, before);
  done({"repair"});
  EXPECT_EQ(content("var/lib/saltdb/store"), "made by 1-1\n");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Acting, RepairMakesWhatIsMissingOfATriggersWork) {
  station.open();
  done({"install", "chart", "north"});
  fs::remove(station.root() / "usr/index");
  EXPECT_EQ(station.hambrel({"verify"}).code, 11);
  done({"repair"});
  EXPECT_EQ(content("usr/index"), "north 2\n");
  write_file(station.root() / "usr/index", "by hand");
  EXPECT_THAT(station.hambrel({"verify"}).out, HasSubstr("changed since"));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Acting, WhatIsPreparedWasRehearsedAndOnlySwitches) {
  station.open();
  done({"install", "chart", "--prepare"});
  done({"activate", "--discard"});
  done({"install", "chart", "north=1"});
  const auto before = station.contents();
  done({"install", "south", "--prepare"});
  EXPECT_EQ(station.contents(), before);
  done({"activate"});
  EXPECT_EQ(content("usr/index"), "north 1\nsouth\n");
  EXPECT_EQ(ran(), std::vector<std::string>{"chart"});
  done({"undo", "2"});
  done({"install", "south", "--prepare"});
  write_file(station.root() / "usr/index", "somebody made it anew");
  const Ran late = station.hambrel({"activate", "-y"});
  EXPECT_EQ(late.code, 3);
  EXPECT_THAT(late.err, HasSubstr("/usr/index"));
  EXPECT_EQ(content("usr/index"), "somebody made it anew");
}

TEST_F(Acting, TriggersMaySetOffOthersButNotForEver) {
  station.pack("first", "1-1", trigger("usr/index", "cat /usr/index > /usr/second", "usr/second"), {{"usr/f", "1"}});
  station.pack("ping", "1-1", trigger("usr/pong", "echo $$ >> /usr/ping", "usr/ping"), {{"usr/p1", "1"}});
  station.pack("pong", "1-1", trigger("usr/ping", "echo $$ >> /usr/pong", "usr/pong"), {{"usr/p2", "1"}});
  station.open();
  done({"install", "chart", "first", "north=1"});
  EXPECT_EQ(content("usr/second"), "north 1\n");
  done({"upgrade"});
  EXPECT_EQ(content("usr/second"), "north 2\n");
  const Ran endless = station.hambrel({"install", "ping", "pong", "-y"});
  EXPECT_EQ(endless.code, 3);
  EXPECT_THAT(endless.err, HasSubstr("set each other off without end"));
}

TEST_F(Acting, EveryKindOfChangeIsTaken) {
  station.pack("keeper", "1-1",
               "[config]\nfiles = [\"etc/keeper\"]\n" +
                   hook("install",
                        "mkdir -p /var/k/deep; echo a > /var/k/deep/a; ln -s deep /var/k/link\n"
                        "chmod 700 /var/k; echo host >> /etc/keeper; rm /etc/old; rm -r /etc/dir",
                        "\"var/k/**\", \"etc/keeper\", \"etc/old\", \"etc/dir/**\""),
               {{"etc/keeper", "setting\n"}});
  station.open();
  write_file(station.root() / "etc/old", "old");
  write_file(station.root() / "etc/dir/one", "one");
  const auto before = station.contents();
  done({"install", "keeper"});
  EXPECT_EQ(content("var/k/link/a"), "a\n");
  EXPECT_EQ(fs::status(station.root() / "var/k").permissions(), fs::perms::owner_all);
  EXPECT_EQ(content("etc/keeper"), "setting\nhost\n");
  EXPECT_EQ(content("etc/old"), "(not there)");
  EXPECT_FALSE(fs::exists(station.root() / "etc/dir"));
  EXPECT_THAT(run({"getfattr", "-R", "-d", "-m", "-", station.root().string()}).out, Not(HasSubstr("overlay")));
  done({"undo", "1"});
  EXPECT_EQ(station.contents(), before);
}

TEST_F(Acting, KilledAtAnyStepTheRootIsAsBeforeOrAsPlanned) {
  station.open();
  done({"install", "chart", "north=1"});
  const auto before = station.files();
  const std::string installed = station.installed();
  for (const std::string step :
       {"staged", "rehearsed", "synced", "journaled", "moved:1", "moved:2", "moved:3", "switched", "committed"}) {
    SCOPED_TRACE(step);
    const Ran killed = station.hambrel({"install", "saltdb=1", "south", "-y"}, {{"HAMBREL_TEST_DIE_AT", step}});
    ASSERT_EQ(killed.code, 137) << killed.err;
    ASSERT_EQ(station.hambrel({"recover"}).code, 0);
    EXPECT_TRUE(!fs::exists(station.root() / "var/lib/hambrel/stage") ||
                fs::is_empty(station.root() / "var/lib/hambrel/stage"));
    if (step == "committed") break;
    EXPECT_EQ(station.files(), before);
    EXPECT_EQ(station.installed(), installed);
  }
  EXPECT_EQ(content("usr/index"), "north 1\nsouth\n");
  EXPECT_EQ(content("var/lib/saltdb/store"), "made by 1-1\n");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Acting, WhatWasChangedUnderAProgramsFeetIsNotLost) {
  station.pack(
      "slow", "1-1",
      hook("install", "cat /etc/list > /tmp/l; sleep 1; echo ours >> /tmp/l; cat /tmp/l > /etc/list", "\"etc/list\""),
      {{"usr/slow", "1"}});
  station.open();
  write_file(station.root() / "etc/list", "first\n");
  const std::string list = (station.root() / "etc/list").string();
  run({"sh", "-c", "(sleep 0.6; echo somebody >> " + list + ") > /dev/null 2>&1 &"});
  done({"install", "slow"});
  EXPECT_EQ(content("etc/list"), "first\nsomebody\nours\n") << "the program ran once more";
  EXPECT_EQ(ran().size(), 1U);
  done({"undo", "1"});
  EXPECT_EQ(content("etc/list"), "first\nsomebody\n");
}

TEST_F(Acting, ASystemOfSeveralFileSystemsIsSeenAsOne) {
  station.open();
  const std::string root = station.root().string();
  const std::string hambrel = std::string(HAMBREL_PROGRAM) + " --root " + root;
  fs::create_directories(station.root() / "var/lib/saltdb");
  const Ran ran =
      run({"unshare", "-m", "sh", "-ec",
           "mount -t tmpfs none " + root + "/var/lib/saltdb\n" + hambrel + " install saltdb=1 north=1 chart -y -q\n" +
               hambrel + " upgrade -y -q\n" + "cat " + root + "/var/lib/saltdb/store " + root + "/usr/index\n" +
               hambrel + " undo 2 -y -q\n" + "cat " + root + "/var/lib/saltdb/store " + root + "/usr/index\n" +
               hambrel + " undo 1 -y -q\n" + "ls " + root + "/var/lib/saltdb\n"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(ran.out, "made by 1-1\n1-1 to 2-1\nnorth 2\nmade by 1-1\nnorth 1\n");
}

TEST_F(Acting, ARootOfOnesOwnNeedsNoPrivilege) {
  if (::geteuid() != 0) GTEST_SKIP() << "only root can be somebody else";
  station.open();
  const fs::path top = station.root().parent_path();
  run({"chmod", "755", top.string()});
  run({"chown", "-R", "65534:65534", top.string()});
  const auto as_nobody = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", HAMBREL_PROGRAM,
                                 "--root", station.root().string()});
    words.emplace_back("-y");
    return run(words);
  };
  const auto before = station.contents();
  const Ran installed = as_nobody({"install", "saltdb=1", "north=1", "chart"});
  if (installed.code == 3 && installed.err.find("cannot be rehearsed here") != std::string::npos)
    GTEST_SKIP() << installed.err;  // no user namespaces for everybody: that is said
  EXPECT_EQ(installed.code, 0) << installed.err;
  EXPECT_EQ(content("var/lib/saltdb/store"), "made by 1-1\n");
  EXPECT_EQ(content("usr/index"), "north 1\n");
  EXPECT_EQ(as_nobody({"upgrade"}).code, 0);
  EXPECT_EQ(content("var/lib/saltdb/store"), "made by 1-1\n1-1 to 2-1\n");
  EXPECT_EQ(content("usr/index"), "north 2\n");
  EXPECT_EQ(as_nobody({"undo", "2"}).code, 0);
  EXPECT_EQ(as_nobody({"undo", "1"}).code, 0);
  EXPECT_EQ(station.contents(), before);
}

TEST_F(Acting, APackageTomlIsReadStrictly) {
  const auto problem = [&](const std::string& toml) {
    try {
      station.pack("odd", "1-1", toml, {{"usr/odd", "1"}}, station.path("odd.hambrel").string());
    } catch (const std::runtime_error& error) {
      return std::string(error.what());
    }
    return std::string("none");
  };
  EXPECT_THAT(problem("[[hooks]]\nwhen = [\"install\"]\n"), HasSubstr("package.toml:5: either run or script"));
  EXPECT_THAT(problem("[[hooks]]\nwhen = [\"sometimes\"]\nrun = [\"/bin/x\"]\n"), HasSubstr("package.toml:6"));
  EXPECT_THAT(problem("[[hooks]]\nwhen = [\"install\"]\nrun = [\"x\"]\n"), HasSubstr("an absolute path"));
  EXPECT_THAT(problem("[[triggers]]\nrun = [\"/bin/x\"]\nwatches = []\n"), HasSubstr("watches"));
  EXPECT_THAT(problem("[[triggers]]\nrun = [\"/bin/x\"]\nwatches = [\"/usr/**\"]\n"), HasSubstr("leading /"));
  EXPECT_THAT(problem("[[triggers]]\nrun = [\"/bin/x\"]\nwatches = [\"**\"]\n"), HasSubstr("plain first directory"));
  EXPECT_THAT(problem(trigger("usr/x", "true", "etc/hambrel/hambrel.toml")), HasSubstr("writes"));
  EXPECT_THAT(problem("[[hooks]]\nwhen = [\"install\"]\nrun = [\"/bin/x\"]\nwirtes = []\n"), HasSubstr("did you mean"));
}

/// A trigger or hook that tries to get out, or to do harm where it is.
class HostileHook : public Acting {};

TEST_F(HostileHook, IsHeldIn) {
  write_file(station.path("outside"), "untouched");
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[hooks]\nseconds = 1\nmebibytes = 16\n");
  const auto add = [&](const std::string& name, const std::string& script) {
    station.pack(name, "1-1", hook("install", script, "\"var/out/**\""), {{"usr/" + name, "1"}});
  };
  add("endless", "while :; do :; done");
  add("sleeping", "sleep 1000 & sleep 1000");
  add("bombing", "b() { b | b & }; b; while :; do b; done");
  add("filling", "mkdir /var/out; while :; do cat /dev/zero >> /var/out/f; done");
  add("devices", "mkdir /var/out; mknod /var/out/sda b 8 0 || exit 7");
  add("pipes", "mkdir /var/out; mkfifo /var/out/pipe");
  add("rights", "mkdir /var/out; echo > /var/out/x; chmod 4755 /var/out/x");
  add("opening", "mkdir -p /var/out/all; chmod 777 /var/out/all");
  add("killing", "kill -9 1; kill -9 -1; exit 9");
  add("reading", "head -c 1 || exit 8; read line || exit 8");
  station.open();
  refused("endless", "took more than 1 s");
  refused("sleeping", "took more than 1 s");
  refused("bombing", "bombing");
  refused("filling", "the hook of filling");
  refused("devices", "returned 7");
  refused("pipes", "/var/out/pipe: the hook of pipes made something that is no file, directory or link");
  refused("rights", "/var/out/x: the hook of rights made a file that runs with the rights of another user");
  refused("opening", "/var/out/all: the hook of opening made a directory that every user may change");
  refused("killing", "the hook of killing failed");
  refused("reading", "returned 8");
  EXPECT_EQ(read_file(station.path("outside")), "untouched");
}

TEST_F(HostileHook, SeesNothingOfTheMachine) {
  write_file(station.path("outside"), "secret");
  const std::string outside = station.path("outside").string();
  station.pack(
      "looking", "1-1",
      hook("install",
           "[ -e " + outside +
               " ] && exit 1\n"
               "[ -e /proc/1/root" +
               outside +
               " ] && exit 2\n"
               "[ \"$(ls /var/lib/hambrel 2>/dev/null)\" = '' ] || exit 3\n"
               "[ \"$(ls /etc/hambrel 2>/dev/null)\" = '' ] || exit 4\n"
               "[ \"$(ls /proc | head -n 60 | { n=0; while read p; do case $p in [0-9]*) n=$((n+1));; esac; done;"
               " echo $n; })\" -lt 8 ] || exit 5\n"
               "(echo x > /proc/sys/kernel/core_pattern) 2>/dev/null && exit 6\n"
               "(echo b > /proc/sysrq-trigger) 2>/dev/null && exit 7\n"
               "while read a b; do case $a in lo:|Inter*|face*) ;; *) exit 8;; esac; done < /proc/net/dev\n"
               "[ -e /dev/sda ] && exit 9\n"
               "(: < /dev/tty) 2>/dev/null && exit 10\n"
               "for f in /proc/1/fd/* /proc/1/cwd /proc/self/fd/*; do [ -e $f/" +
               outside +
               " ] && exit 11; done\n"
               "for f in /proc/1/fd/*; do [ -e $f ] && exit 12; done\n"
               "(: < /proc/1/mem) 2>/dev/null && exit 13\n"
               "echo temporary > /tmp/x; echo temporary > /run/x\n"
               "exit 0"),
      {{"usr/looking", "1"}});
  station.open();
  done({"install", "looking"});
  EXPECT_EQ(content("tmp/x"), "(not there)");
}

}  // namespace hambrel::test
