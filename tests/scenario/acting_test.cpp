// Packages that act: triggers and hooks run on a preview of the system, and what they wrote is part of the transaction.
#include "scenario/acting.h"

#include <unistd.h>

namespace hambrel::test {

using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

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

TEST_F(Acting, ARollbackPastSeveralChangesBringsBackWhatHooksHadMade) {
  station.open();
  const auto store = [&] {  // attributes and time as well, which is kept in whole seconds
    std::string facts = station.contents().at("var/lib/saltdb/store");
    return facts.erase(facts.find('.'), 10);
  };
  done({"install", "chart"});
  done({"install", "saltdb=1"});
  const auto first = store();
  done({"upgrade"});
  done({"install", "north=1"});
  const auto third = store();
  EXPECT_EQ(content("var/lib/saltdb/store"), "made by 1-1\n1-1 to 2-1\n");
  EXPECT_THAT(station.hambrel({"rollback", "2", "-n"}).out, Not(HasSubstr("hook"))) << "nothing converts back";
  done({"rollback", "2"});
  EXPECT_EQ(store(), first);
  EXPECT_EQ(content("usr/index"), "");
  done({"remove", "saltdb", "--purge"});
  EXPECT_EQ(content("var/lib/saltdb/store"), "(not there)");
  done({"rollback", "4"});
  EXPECT_EQ(store(), third);
  EXPECT_EQ(content("usr/index"), "north 1\n");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  done({"undo", "7"});
  EXPECT_EQ(content("var/lib/saltdb/store"), "(not there)");
  done({"redo", "7"});
  EXPECT_EQ(store(), third);
  EXPECT_THAT(station.hambrel({"owner", "/var/lib/saltdb/store"}).out, HasSubstr("made by the hook of saltdb"));
  done({"rollback", "1"});
  EXPECT_FALSE(fs::exists(station.root() / "var/lib/saltdb")) << "nobody had made it then";
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

TEST_F(Acting, WhatIsDueIsMadeUpForWithoutALookAtFiles) {
  station.open();
  done({"install", "saltdb=1", "--without-hooks"});
  write_file(station.root() / "usr/share/saltdb", "changed");
  EXPECT_EQ(station.hambrel({"repair", "--due", "saltdb", "-y"}).code, 2);
  done({"repair", "--due"});
  EXPECT_EQ(content("var/lib/saltdb/store"), "made by 1-1\n");
  EXPECT_EQ(content("usr/share/saltdb"), "changed");
  EXPECT_THAT(station.hambrel({"repair", "--due", "-y"}).out, HasSubstr("Nothing is due"));
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

}  // namespace hambrel::test
