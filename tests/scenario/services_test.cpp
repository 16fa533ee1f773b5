// Services of packages on a root that nothing runs on: what is declared, what a plan says, and the links that enable.
// What is stopped, started and checked is shown on a real system by tests/realroot.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "operations/services.h"
#include "scenario/station.h"
#include "services/manager.h"

namespace hambrel::test {

using testing::AllOf;
using testing::HasSubstr;

namespace {

constexpr const char* kService = R"(
[[services]]
name = "tidelog"
check = ["/usr/bin/tidecheck"]
)";

class Services : public testing::Test {
 protected:
  void SetUp() override {
    for (const char* const version : {"1-1", "2-1"})
      station.pack("tidelog", version, kService, {{"usr/bin/tidelogd", version}, {"etc/sv/tidelog/run", "run"}});
  }
  /// The programs of a service manager, without which there is none.
  void give(const std::string& program) const {
    write_file(station.root() / program, "");
    fs::create_directories(station.root() / "etc/service");
    fs::create_directories(station.root() / "etc/init.d");
  }
  void done(std::vector<std::string> words) const {
    words.emplace_back("-y");
    const Ran ran = station.hambrel(words);
    EXPECT_EQ(ran.code, 0) << words[0] << ": " << ran.out << ran.err;
  }
  std::string link(const std::string& path) const {
    const fs::path whole = station.root() / path;
    return fs::is_symlink(whole) ? fs::read_symlink(whole).string() : "(no link)";
  }
  Station station;
};

}  // namespace

TEST_F(Services, TheLinkThatEnablesComesAndGoesWithThePackageAndAnUndo) {
  give("usr/bin/runsvdir");
  station.open();
  const auto before = station.contents();
  const auto plan = station.json({"install", "tidelog=1", "-n"})["plan"];
  ASSERT_EQ(plan["services"].size(), 1U) << "nothing is started where nothing runs";
  EXPECT_EQ(plan["services"][0]["action"], "enable");
  done({"install", "tidelog=1"});
  EXPECT_EQ(link("etc/service/tidelog"), "/etc/sv/tidelog");
  const auto installed = station.contents();
  done({"undo", "1"});
  EXPECT_EQ(station.contents(), before);
  done({"redo", "1"});
  EXPECT_EQ(station.contents(), installed);
  done({"upgrade"});
  done({"remove", "tidelog"});
  EXPECT_EQ(link("etc/service/tidelog"), "(no link)");
}

TEST_F(Services, WhatTheAdministratorDecidedStays) {
  give("usr/bin/runsvdir");
  station.open();
  done({"install", "tidelog=1"});
  done({"services", "disable", "tidelog"});
  EXPECT_EQ(link("etc/service/tidelog"), "(no link)");
  EXPECT_EQ(station.json({"services"})["enabled"], false);
  done({"upgrade"});
  EXPECT_EQ(link("etc/service/tidelog"), "(no link)");
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  done({"undo", "2"});
  EXPECT_EQ(link("etc/service/tidelog"), "/etc/sv/tidelog");
  done({"remove", "tidelog"});
  fs::create_symlink("/etc/sv/own", station.root() / "etc/service/tidelog");
  done({"install", "tidelog"});
  done({"remove", "tidelog"});
  EXPECT_EQ(link("etc/service/tidelog"), "/etc/sv/own") << "a link of the administrator's own";
}

TEST_F(Services, EachManagerHasLinksOfItsOwn) {
  station.pack("gauge", "1-1", "[[services]]\nname = \"gauge.timer\"\ntargets = [\"timers.target\"]\n",
               {{"usr/gauge", "1"}});
  give("usr/lib/systemd/systemd");
  station.open();
  done({"install", "tidelog", "gauge"});
  EXPECT_EQ(link("etc/systemd/system/multi-user.target.wants/tidelog.service"),
            "/usr/lib/systemd/system/tidelog.service");
  EXPECT_EQ(link("etc/systemd/system/timers.target.wants/gauge.timer"), "/usr/lib/systemd/system/gauge.timer");
  done({"remove", "tidelog", "gauge"});
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[services]\nmanager = \"sysv\"\n");
  done({"install", "tidelog"});
  EXPECT_EQ(link("etc/rc2.d/S50tidelog"), "../init.d/tidelog");
  EXPECT_EQ(link("etc/rc6.d/K50tidelog"), "../init.d/tidelog");
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[services]\nmanager = \"none\"\n");
  done({"remove", "tidelog"});
  EXPECT_EQ(link("etc/rc2.d/S50tidelog"), "../init.d/tidelog") << "with no manager nothing is known of links";
}

TEST_F(Services, AnythingElseThanALinkThatStandsThereIsLeftAlone) {
  give("usr/bin/runsvdir");
  write_file(station.root() / "etc/service/tidelog/run", "the administrator's own");
  station.open();
  done({"install", "tidelog"});
  done({"remove", "tidelog"});
  EXPECT_EQ(read_file(station.root() / "etc/service/tidelog/run"), "the administrator's own");
}

TEST_F(Services, AreNotActedOnWhereTheyDoNotRun) {
  give("usr/bin/runsvdir");
  station.open();
  done({"install", "tidelog"});
  const Ran started = station.hambrel({"services", "start", "tidelog"});
  EXPECT_EQ(started.code, 3);
  EXPECT_THAT(started.err, HasSubstr("runit does not run on this root"));
  const Ran unknown = station.hambrel({"services", "start", "tidlog"});
  EXPECT_EQ(unknown.code, 1);
  EXPECT_THAT(unknown.err, AllOf(HasSubstr("no installed package has a service"), HasSubstr("tidelog")));
  EXPECT_EQ(station.hambrel({"services", "stop"}).code, 2);
  EXPECT_EQ(station.hambrel({"services", "stop", "--due"}).code, 2);
  EXPECT_EQ(station.hambrel({"services", "sing"}).code, 2);
}

TEST_F(Services, AreDeclaredStrictly) {
  const auto packed = [&](const std::string& toml) {
    write_file(station.path("src/package.toml"),
               "name = \"x\"\nversion = \"1\"\narch = \"independent\"\nsummary = \"x\"\n" + toml);
    fs::create_directories(station.path("src/root"));
    return run({HAMBREL_PROGRAM, "pack", station.path("src").string(), "-o", station.path("x.hambrel").string()}).err;
  };
  EXPECT_THAT(packed("[[services]]\nname = \"a/b\"\n"),
              HasSubstr("package.toml:6: services.name must be a name of at most 64"));
  EXPECT_THAT(packed("[[services]]\nname = \"a\"\non-upgrade = \"kill\"\n"),
              HasSubstr("package.toml:7: services.on-upgrade"));
  EXPECT_THAT(packed("[[services]]\nname = \"a\"\ncheck = [\"ping\"]\n"), HasSubstr("package.toml:7: services.check"));
  EXPECT_THAT(packed("[[services]]\nname = \"a\"\ncheck-seconds = 3\n"), HasSubstr("left out where there is no check"));
  EXPECT_THAT(packed("[[services]]\nname = \"a\"\nstart-now = true\n"), HasSubstr("unknown key"));
  EXPECT_THAT(packed("[[hooks]]\nwhen = [\"install\"]\nscript = \"x\"\nbefore = true\nreads-live = true\n"),
              HasSubstr("package.toml:9: hooks.reads-live"));
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[services]\nmanager = \"commands\"\n");
  EXPECT_THAT(station.hambrel({"list"}).err, HasSubstr("a table with start and stop"));
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[services]\nfailed = \"cry\"\n");
  EXPECT_THAT(station.hambrel({"list"}).err, HasSubstr("hambrel.toml:2: services.failed must be"));
}

TEST_F(Services, CommandsOfTheAdministratorsOwnServeAsAManager) {
  const std::string state = station.path("state").string(), program = station.path("ctl").string();
  write_file(program,
             "#!/bin/sh\n"
             "case $1 in start) echo $2 > " +
                 state + ";; stop) rm -f " + state + ";; status) [ -e " + state +
                 " ];;\n"
                 "reload) echo cannot >&2; exit 5;; esac\n",
             0755);
  settings::ServiceRules rules;
  rules.manager = "commands";
  rules.start = {program, "start", "{service}.d"};
  rules.stop = {program, "stop", "{service}"};
  rules.status = {program, "status", "{service}"};
  rules.reload = {program, "reload", "{service}"};
  const auto manager = services::manager_of(
      rules, [](const std::string&) { return false; }, true);
  ASSERT_TRUE(manager->is_live());
  EXPECT_EQ(manager->state_of("tidelog"), services::State::Stopped);
  EXPECT_TRUE(manager->start("tidelog").good);
  EXPECT_EQ(read_file(state), "tidelog.d\n");
  EXPECT_EQ(manager->state_of("tidelog"), services::State::Running);
  EXPECT_TRUE(manager->restart("tidelog").good);
  EXPECT_EQ(manager->reload("tidelog").said, "returned 5: cannot");
  EXPECT_TRUE(manager->stop("tidelog").good);
  EXPECT_EQ(manager->state_of("tidelog"), services::State::Stopped);
}

TEST(Command, IsEndedWhenItsTimeIsOverAndWhatItLeavesRunningIsNotWaitedFor) {
  const auto late = os::run_command({"/bin/sh", "-c", "echo begun; sleep 60"}, 1);
  EXPECT_TRUE(late.timed_out);
  EXPECT_EQ(late.output, "begun\n");
  const auto leaving = os::run_command({"/bin/sh", "-c", "sleep 20 & echo done"}, 10);
  EXPECT_TRUE(leaving.succeeded());
  EXPECT_EQ(leaving.output, "done\n");
  EXPECT_EQ(os::run_command({"no-such-program"}, 1).problem, "there is no program no-such-program");
}

}  // namespace hambrel::test
