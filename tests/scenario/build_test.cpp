// Packages from source: the built program on small recipes.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/mount.h>
#include <sys/wait.h>
#include <unistd.h>

#include <regex>
#include <thread>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;
using testing::Not;

class Building : public testing::Test {
 protected:
  /// recipe.toml of one package, whose steps (and what else there is) are given.
  void recipe(const std::string& rest, const std::string& head = "") {
    write_file(folder() / "recipe.toml",
               "[recipe]\nname = \"saltdb\"\nversion = \"2.1\"\nsummary = \"store\"\nlicense = \"MIT\"\n" + head +
                   "\n" + "[[sources]]\nfile = \"src\"\n" + rest);
    write_file(folder() / "src/table", "one\ntwo\n");
    fs::create_directories(out());
  }
  fs::path folder() const { return station.path("saltdb"); }
  fs::path out() const { return station.path("out"); }
  Ran build(std::vector<std::string> more = {}) const {
    more.insert(more.begin(), {"build", folder().string(), "--host-tools", "-o", out().string()});
    return station.hambrel(more);
  }
  std::string package() const { return (out() / "saltdb-2.1-1.x86_64.hambrel").string(); }
  fs::path workshop() const { return station.root() / "var/cache/hambrel/builds"; }
  std::vector<std::string> left() const {
    std::vector<std::string> names;
    for (const auto& one : fs::directory_iterator(workshop() / "builds")) names.push_back(one.path().filename());
    return names;
  }
  Station station;
};

TEST_F(Building, ARecipeBecomesPackagesThatCanBeInstalledAndTakenBack) {
  recipe(R"(
[options.sound]
text = "ring a bell"
requires = ["bell"]
[steps]
build = [["sh", "-c", "tr a-z A-Z < table > made; echo {option.sound?loud:quiet} >> made"]]
check = "grep ONE made"
install = """
mkdir -p {stage}{prefix}/bin {stage}/usr/share/saltdb {stage}/usr/lib/pkgconfig {stage}/etc
cp made {stage}/usr/share/saltdb
printf '#!/bin/sh\n' > {stage}/usr/bin/saltctl; chmod 755 {stage}/usr/bin/saltctl
printf 'Name: s\nVersion: 2.1\nRequires: tide >= 1.8\n' > {stage}/usr/lib/pkgconfig/saltdb.pc
echo a=1 > {stage}/etc/saltdb.conf
"""
[[packages]]
config.files = ["etc/saltdb.conf"]
[[packages]]
name = "saltdb-tools"
files = ["usr/bin/**"]
relations.requires = ["saltdb = {version}"]
[[packages]]
name = "saltdb-headers"
files = ["usr/lib/pkgconfig/*"]
without = ["tide >= 1.8"]
)");
  const Ran built = build();
  ASSERT_EQ(built.code, 0) << built.err;
  EXPECT_THAT(built.out, HasSubstr("provides saltdb.pc = 2.1"));
  EXPECT_THAT(built.out, HasSubstr("usr/bin/saltctl needs /bin/sh, and no package is known to have it"));
  EXPECT_THAT(built.out, Not(HasSubstr("tide")));
  EXPECT_TRUE(left().empty());
  const auto before = station.contents();
  station.pack("bell", "1-1", "", {{"usr/bin/bell", "ding\n"}});
  station.open();
  const auto install = [&](const std::string& name) {
    return station.hambrel(
        {"install", "-y", "--allow-unsigned", (out() / (name + "-2.1-1.x86_64.hambrel")).string(), package()});
  };
  ASSERT_EQ(install("saltdb-tools").code, 0);
  EXPECT_EQ(station.installed(), "saltdb 2.1-1, saltdb-tools 2.1-1");
  EXPECT_EQ(read_file(station.root() / "usr/share/saltdb/made"), "ONE\nTWO\nquiet\n");
  EXPECT_THAT(station.hambrel({"files", "saltdb", "--json"}).out, HasSubstr("\"config\":true"));
  ASSERT_EQ(station.hambrel({"undo", "-y", "last"}).code, 0);
  EXPECT_EQ(station.contents(), before);
  ASSERT_EQ(install("saltdb-tools").code, 0);
  ASSERT_EQ(build({"--with", "sound"}).code, 0);
  const Ran changed =
      station.hambrel({"install", "-y", "--allow-unsigned", (out() / "saltdb-2.1-1+sound.x86_64.hambrel").string()});
  ASSERT_EQ(changed.code, 0) << changed.err;
  EXPECT_EQ(station.installed(), "bell 1-1, saltdb 2.1-1+sound, saltdb-tools 2.1-1");
  EXPECT_THAT(read_file(station.root() / "usr/share/saltdb/made"), HasSubstr("loud"));
}

TEST_F(Building, TheSameRecipeGivesTheSameBytesWhereverAndWheneverItIsBuilt) {
  recipe(
      "[steps]\ninstall = \"mkdir -p {stage}/usr; cp -p table {stage}/usr; cp table {stage}/usr/copy; "
      "pwd > {stage}/usr/where; id -u >> {stage}/usr/where; date >> {stage}/usr/none || true; rm {stage}/usr/none\"\n");
  ASSERT_EQ(build().code, 0);
  const std::string first = read_file(package());
  set_times(folder() / "src", 1'600'000'000);
  fs::rename(folder(), station.path("elsewhere"));
  ASSERT_EQ(
      station.hambrel({"build", station.path("elsewhere").string(), "--host-tools", "-o", out().string(), "-j", "7"})
          .code,
      0);
  EXPECT_EQ(read_file(package()), first);
  fs::rename(station.path("elsewhere"), folder());
  EXPECT_THAT(build({"--check-reproducible"}).out, HasSubstr("twice with the same result"));
  recipe("[steps]\ninstall = \"mkdir -p {stage}/usr; date +%N > {stage}/usr/time; cp table {stage}/usr\"\n");
  const Ran differs = build({"--check-reproducible"});
  EXPECT_EQ(differs.code, 1);
  EXPECT_THAT(differs.err, HasSubstr("not the same when it is built again: /usr/time"));
  EXPECT_TRUE(left().empty());
}

TEST_F(Building, AStepThatFailsSaysWhichOneAndItsLastLinesAndLeavesItsLog) {
  recipe(
      "[steps]\nbuild = [[\"true\"]]\ncheck = [[\"sh\", \"-c\", \"seq 100; echo broken >&2; exit 3\"]]\ninstall = "
      "[[\"true\"]]\n");
  const Ran failed = build();
  EXPECT_EQ(failed.code, 1);
  EXPECT_THAT(failed.err, HasSubstr("step check: sh -c 'seq 100; echo broken >&2; exit 3' ended with code 3"));
  EXPECT_THAT(failed.err, HasSubstr("| 72\n"));
  EXPECT_THAT(failed.err, Not(HasSubstr("| 71\n")));
  EXPECT_THAT(failed.err, HasSubstr("| broken"));
  EXPECT_THAT(read_file(workshop() / "logs/saltdb-2.1-1.log"), HasSubstr("\n1\n2\n"));
  EXPECT_TRUE(left().empty());
  EXPECT_TRUE(fs::is_empty(out()));
  const Ran kept = build({"--keep"});
  EXPECT_THAT(kept.err, HasSubstr("builds/builds/saltdb-2.1-1.1/work"));
  EXPECT_EQ(left().size(), 1U);
  const Ran shell = run({"python3", "-c",
                         "import os, pty, sys, time\n"
                         "pid, fd = pty.fork()\n"
                         "if pid == 0: os.execv(sys.argv[1], sys.argv[1:])\n"
                         "os.write(fd, b'echo $((6 * 7)); cat table; exit\\n')\n"
                         "try:\n  while (data := os.read(fd, 4096)): sys.stdout.buffer.write(data)\n"
                         "except OSError: pass\n",
                         HAMBREL_PROGRAM, "--root", station.root().string(), "build", folder().string(), "--shell"});
  EXPECT_THAT(shell.out, HasSubstr("42\r\none\r\ntwo\r\n"));
  EXPECT_EQ(station.hambrel({"build", folder().string(), "--shell"}).code, 2) << "there is no terminal";
  EXPECT_EQ(build({"--no-check"}).code, 1) << "nothing is installed";
  EXPECT_EQ(station.json({"tidy", "builds", "-y"}).at("result"), "done");
  EXPECT_TRUE(left().empty());
}

TEST_F(Building, NothingOutsideOfItsDirectoryIsWrittenAndThereIsNoNetwork) {
  write_file(station.path("secret"), "mine\n");
  fs::permissions(station.path("secret"), fs::perms::owner_read);
  recipe(
      "[steps]\ninstall = \"\"\"\n"
      "for at in /usr /etc / /var/lib " +
      station.root().string() + " " + station.path("").string() +
      "; do touch $at/evil && echo wrote $at; done\n"
      "cat " +
      station.path("secret").string() +
      " && echo read\n"
      "ls /sys/class/net /home /root || true; chmod 4755 /bin/sh && echo set-id; true\n"
      "mount -t tmpfs x /mnt && echo mounted; true\n"
      "python3 -c 'import socket; socket.create_connection((\"127.0.0.1\", 1), 2)' 2>&1 | tail -1\n"
      "python3 -c 'import socket; socket.create_connection((\"192.0.2.1\", 80), 2)' 2>&1 | tail -1\n"
      "sleep 1000 & (setsid sleep 1000 &) ; id -u; exit 9\n\"\"\"\n");
  const Ran tried = build();
  EXPECT_EQ(tried.code, 1);
  EXPECT_THAT(tried.err, HasSubstr("ended with code 9"));
  for (const char* const bad : {"wrote", "read\n", "set-id", "mounted", "| 0\n"})
    EXPECT_THAT(tried.err, Not(HasSubstr(std::string("| ") + bad)));
  EXPECT_THAT(tried.err, HasSubstr("Network is unreachable"));
  EXPECT_FALSE(fs::exists(station.path("evil")));
  EXPECT_FALSE(fs::exists(station.root() / "evil"));
}

TEST_F(Building, StepsCannotLeadOutOfTheirDirectoryByWhatTheyLeave) {
  fs::create_directories(workshop() / "made");
  write_file(workshop() / "made/precious", "p\n");
  for (const char* const target : {"/made", "../../../made", "/etc"}) {
    recipe("[steps]\ninstall = \"rm -r {stage}; ln -s " + std::string(target) + " {stage}\"\n");
    const Ran led = build();
    EXPECT_EQ(led.code, 1);
    EXPECT_THAT(led.err, HasSubstr("something else in the place of {stage}"));
  }
  recipe(
      "[steps]\ninstall = \"ln -s /made {stage}/usr; ln -s ../../../made {stage}/opt; mkfifo {stage}/fifo || true\"\n");
  EXPECT_EQ(build().code, 1) << "a pipe cannot be in a package";
  EXPECT_EQ(read_file(workshop() / "made/precious"), "p\n");
  EXPECT_TRUE(left().empty());
}

TEST_F(Building, LimitsHold) {
  const auto set = [&](const std::string& build) {
    write_file(station.root() / "etc/hambrel/hambrel.toml", "[build]\n" + build);
  };
  const auto tried = [&](const std::string& script) {
    recipe("[steps]\ninstall = '''" + script + "'''\n");
    return build().err;
  };
  set("seconds = 1\n");
  EXPECT_THAT(tried("sleep 60"), HasSubstr("took longer than [build] seconds"));
  set("mebibytes = 8\n");
  EXPECT_THAT(tried("head -c 64M /dev/zero > big; sleep 5"),
              testing::AnyOf(HasSubstr("File too large"), HasSubstr("wrote more than [build] mebibytes"),
                             HasSubstr("signal 25")));
  set("memory_mebibytes = 64\n");
  EXPECT_THAT(tried("python3 -c 'a = bytearray(200 << 20)'"),
              testing::AnyOf(HasSubstr("MemoryError"), HasSubstr("took more memory")));
  EXPECT_TRUE(left().empty());
}

TEST_F(Building, SourcesAreComparedWithTheirDigests) {
  const fs::path archive = station.path("salt-1.tar");
  write_file(station.path("salt-1/table"), "from the archive\n");
  ASSERT_EQ(
      run({"tar", "--mtime=2026-11-01 12:00Z", "-C", station.path("").string(), "-cf", archive.string(), "salt-1"})
          .code,
      0);
  const std::string digest = run({"sha256sum", archive.string()}).out.substr(0, 64);
  const auto from = [&](const std::string& url, const std::string& sha256) {
    write_file(folder() / "recipe.toml",
               "[recipe]\nname = \"saltdb\"\nversion = \"2.1\"\nsummary = \"store\"\nlicense = "
               "\"MIT\"\n[[sources]]\nurl = \"" +
                   url + "\"\nsha256 = \"" + sha256 +
                   "\"\n[steps]\ninstall = \"mkdir {stage}/usr; cp table {stage}/usr\"\n");
    fs::create_directories(out());
    return build();
  };
  const std::string url = "file://" + archive.string();
  const Ran other = from(url, std::string(64, 'a'));
  EXPECT_EQ(other.code, 5);
  EXPECT_THAT(other.err, HasSubstr("is not the file that the recipe names"));
  EXPECT_TRUE(fs::is_empty(workshop() / "sources"));
  ASSERT_EQ(from(url, digest).code, 0);
  fs::remove(archive);
  ASSERT_EQ(from(url, digest).code, 0) << "it is here";
  EXPECT_THAT(run({"tar", "--zstd", "-tvf", package(), "usr/table"}).out, HasSubstr("2026-11-01 12:00"));
  write_file(workshop() / "sources" / digest, "damaged");
  EXPECT_EQ(from(url, digest).code, 1) << "what is damaged here is fetched again, and is not there";
  EXPECT_TRUE(left().empty());
}

TEST_F(Building, ASourceThatItsMakerSignsMustBeSignedByTheKeyBesideTheRecipe) {
  const std::string file = station.path("salt.txt").string(), key = station.path("maker").string();
  write_file(file, "salt\n");
  ASSERT_EQ(run({HAMBREL_PROGRAM, "key", "new", key, "-q"}).code, 0);
  const Ran made = run({"openssl", "pkeyutl", "-sign", "-rawin", "-inkey", key, "-in", file, "-out", file + ".sig"});
  ASSERT_EQ(made.code, 0) << made.err;
  recipe("[[sources]]\nurl = \"file://" + file + "\"\nsha256 = \"" + run({"sha256sum", file}).out.substr(0, 64) +
         "\"\nunpack = false\nsignature = {url = \"file://" + file +
         ".sig\", key = \"maker.pub\"}\n[steps]\ninstall = \"mkdir {stage}/usr; cp salt.txt {stage}/usr\"\n");
  fs::copy(key + ".pub", folder() / "maker.pub");
  const std::string good = read_file(file + ".sig");
  std::string bad = good;
  bad[7] ^= 1;
  write_file(file + ".sig", bad);
  const Ran refused = build();
  EXPECT_EQ(refused.code, 5);
  EXPECT_THAT(refused.err, HasSubstr("is not signed by the key that the recipe names"));
  EXPECT_TRUE(fs::is_empty(workshop() / "sources"));
  write_file(file + ".sig", good);
  EXPECT_EQ(build().code, 0);
}

TEST_F(Building, AHostileArchiveStaysInItsDirectory) {
  const auto unpacked = [&](const std::string& make) {
    const std::string archive = (folder() / "a.tar").string();
    fs::create_directories(folder());
    EXPECT_EQ(
        run({"python3", "-c",
             "import tarfile, io, sys\nt = tarfile.open(sys.argv[1], 'w')\n"
             "def add(name, **more):\n  i = tarfile.TarInfo(name)\n  [setattr(i, k, v) for k, v in more.items()]\n"
             "  d = b'evil'\n  i.size = len(d) if i.type == tarfile.REGTYPE else 0\n  t.addfile(i, io.BytesIO(d))\n" +
                 make + "\nt.close()\n",
             archive})
            .err,
        "");
    write_file(folder() / "recipe.toml",
               "[recipe]\nname = \"saltdb\"\nversion = \"2.1\"\nsummary = \"store\"\nlicense = "
               "\"MIT\"\n[[sources]]\nfile = \"a.tar\"\n"
               "[steps]\ninstall = \"mkdir {stage}/usr; find . -perm /6000; cp -r . {stage}/usr; find . -type f\"\n");
    fs::create_directories(out());
    return build({"-v"});
  };
  const fs::path target = station.path("evil");
  EXPECT_THAT(unpacked("add('x/../../../../evil')").err, HasSubstr("cannot be unpacked"));
  EXPECT_THAT(unpacked("add('" + target.string() + "')").err, HasSubstr("cannot be unpacked"));
  EXPECT_THAT(unpacked("add('x/dev', type=tarfile.CHRTYPE)").err, HasSubstr("no file, directory or link"));
  unpacked("add('x/up', type=tarfile.SYMTYPE, linkname='" + station.path("").string() + "')\nadd('x/up/evil')");
  unpacked("add('x/up', type=tarfile.SYMTYPE, linkname='../../../../..')\nadd('x/up/evil')");
  unpacked("add('x/a')\nadd('x/b', type=tarfile.LNKTYPE, linkname='" + target.string() + "')");
  EXPECT_FALSE(fs::exists(target));
  EXPECT_FALSE(fs::exists(station.root() / "evil"));
  const Ran set = unpacked("add('x/a', mode=0o6755)\nadd('x/b')");
  EXPECT_EQ(set.code, 0) << set.err;
  EXPECT_EQ(set.err.find("./a\n./a"), std::string::npos) << "no set-id bits";
}

TEST_F(Building, AnInterruptedBuildLeavesItsLogAndNothingElse) {
  recipe("[steps]\nbuild = \"echo begun; sleep 600\"\ninstall = [[\"true\"]]\n");
  const auto start = [&] {
    const pid_t process = fork();
    if (process == 0) {
      setpgid(0, 0);
      const std::string root = station.root().string(), recipe = folder().string();
      if (freopen("/dev/null", "w", stdout) == nullptr || freopen("/dev/null", "w", stderr) == nullptr) _exit(99);
      execl(HAMBREL_PROGRAM, HAMBREL_PROGRAM, "--root", root.c_str(), "build", recipe.c_str(), "--host-tools", nullptr);
      _exit(99);
    }
    for (int i = 0; i < 600; ++i) {
      if (fs::exists(workshop() / "logs/saltdb-2.1-1.log") &&
          read_file(workshop() / "logs/saltdb-2.1-1.log").find("begun") != std::string::npos)
        break;
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
    return process;
  };
  const auto end = [](pid_t process, int signal) {
    kill(process, signal);
    int status = 0;
    waitpid(process, &status, 0);
    return status;
  };
  const int stopped = end(start(), SIGINT);
  EXPECT_TRUE(WIFEXITED(stopped) && WEXITSTATUS(stopped) == 4) << stopped;
  EXPECT_TRUE(left().empty());
  EXPECT_THAT(read_file(workshop() / "logs/saltdb-2.1-1.log"), HasSubstr("begun"));
  fs::remove(workshop() / "logs/saltdb-2.1-1.log");
  const pid_t killed = start();
  EXPECT_EQ(left().size(), 1U);
  // another one beside it is in nobody's way, and clears away what nobody works on any more
  fs::rename(folder(), station.path("first"));
  recipe("[steps]\ninstall = \"mkdir {stage}/usr; cp table {stage}/usr\"\n");
  EXPECT_EQ(build().code, 0);
  EXPECT_EQ(left().size(), 1U);
  EXPECT_TRUE(station.json({"tidy", "builds", "-y"}).at("result") == "done");
  EXPECT_EQ(left().size(), 1U) << "a build under way keeps its directory";
  end(killed, SIGKILL);
  EXPECT_EQ(build().code, 0);
  EXPECT_TRUE(left().empty());
}

TEST_F(Building, WhatIsWrongWithARecipeIsToldWithItsLine) {
  const std::string steps = "[steps]\ninstall = [[\"true\"]]\n";
  const auto said = [&](const std::string& rest, const std::string& head = "") {
    recipe(rest, head);
    const Ran ran = station.hambrel({"recipe", "check", folder().string()});
    EXPECT_EQ(ran.code, 1) << rest;
    return ran.err;
  };
  EXPECT_THAT(said("[steps]\nbuild = [[\"true\"]]\n"), HasSubstr("steps.install is missing"));
  EXPECT_THAT(said("[steps]\ninstall = [[\"make\", \"{stge}\"]]\n"),
              HasSubstr("recipe.toml:10: {stge} stands for nothing"));
  EXPECT_THAT(said("[steps]\ninstall = \"echo {option.nosuch}\"\n"), HasSubstr("{option.nosuch} stands for nothing"));
  EXPECT_THAT(said("[[packages]]\n[[packages]]\nname = \"x\"\n" + steps), HasSubstr("packages.files is missing"));
  EXPECT_THAT(said("[[packages]]\nnmae = \"x\"\n" + steps), HasSubstr("unknown key \"nmae\""));
  EXPECT_THAT(said("[[sources]]\nurl = \"https://skerry.example/x.tar\"\n" + steps),
              HasSubstr("sources.sha256 is missing"));
  EXPECT_THAT(said("[[sources]]\nfile = \"../x\"\n" + steps), HasSubstr("without .."));
  EXPECT_THAT(said("[[sources]]\nfile = \"gone\"\n" + steps), HasSubstr("names gone, which is not there"));
  EXPECT_THAT(said("[needs]\ntools = [\"Bad Name\"]\n" + steps), HasSubstr("recipe.toml:10"));
  EXPECT_THAT(said(steps, "revision = 0"), HasSubstr("recipe.revision must be"));
  EXPECT_THAT(station.hambrel({"recipe", "check", "/nowhere"}).err, HasSubstr("does not exist"));
  recipe(steps + "[options.sound]\ntext = \"bell\"\n");
  const Ran unknown = build({"--with", "sonud"});
  EXPECT_EQ(unknown.code, 2);
  EXPECT_THAT(unknown.err, HasSubstr("sound"));
}

TEST_F(Building, ADraftOfATreeOrOfSourcesHasWhatCanBeSeenAndSaysWhatIsToBeLookedAt) {
  const fs::path tree = station.path("salt-db_2.1");
  write_file(tree / "usr/bin/salt", "#!/usr/bin/salt-shell\n");
  fs::permissions(tree / "usr/bin/salt", fs::perms(04755));
  write_file(tree / "etc/salt.conf", "a=1\n");
  write_file(tree / "usr/share/doc/salt/COPYING", "Permission is hereby granted, free of charge, to any person\n");
  const std::string folder = station.path("draft").string();
  const auto drafted = station.json({"pack", "--from", tree.string(), "-o", folder});
  EXPECT_EQ(drafted.at("name"), "salt-db");
  EXPECT_THAT(drafted.dump(), HasSubstr("/usr/bin/salt runs with the rights of its owner"));
  const std::string toml = read_file(fs::path(folder) / "package.toml");
  EXPECT_THAT(toml, HasSubstr("version = \"2.1-1\""));
  EXPECT_THAT(toml, HasSubstr("license = \"MIT\""));
  EXPECT_THAT(toml, HasSubstr("files = [\"etc/salt.conf\"]"));
  const auto packed = station.json({"pack", folder, "-o", station.path("x.hambrel").string()});
  EXPECT_EQ(packed.at("needs"), nlohmann::json({"/usr/bin/salt-shell"})) << "which package.toml does not state";
  EXPECT_EQ(station.hambrel({"pack", "--from", tree.string(), "-o", folder}).code, 3) << "it is there already";
  const Ran into = station.hambrel({"pack", folder, "-o", folder});
  EXPECT_EQ(into.code, 2);
  EXPECT_THAT(into.err, HasSubstr("is a directory, not the name of a package file"));

  write_file(station.path("salt-1.5/Makefile"),
             "all:\n\techo made > made\ninstall:\n\tinstall -D made $(DESTDIR)$(PREFIX)/made\n");
  const std::string archive = station.path("salt-1.5.tar.gz").string(), sources = station.path("sources").string();
  ASSERT_EQ(run({"tar", "-C", station.path("").string(), "-czf", archive, "salt-1.5"}).code, 0);
  EXPECT_EQ(station.json({"pack", "--from", archive, "-o", sources}).at("kind"), "recipe");
  EXPECT_EQ(station.hambrel({"recipe", "check", sources}).code, 0);
  fs::create_directories(out());
  if (run({"sh", "-c", "command -v make"}).code != 0) return;
  const Ran built = station.hambrel({"build", sources, "--host-tools", "-o", out().string()});
  EXPECT_EQ(built.code, 0) << built.err;
  EXPECT_EQ(run({"tar", "--zstd", "-xOf", (out() / "salt-1.5-1.x86_64.hambrel").string(), "usr/made"}).out, "made\n");
}

TEST_F(Building, AFullDiskEndsABuildWithItsReasonAndLeavesNothing) {
  const fs::path small = station.path("small");
  fs::create_directories(small);
  if (::mount("none", small.c_str(), "tmpfs", 0, "size=4m,mode=0700") != 0)
    GTEST_SKIP() << "this process may not mount file systems";
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[build]\ndirectory = \"" + small.string() + "\"\n");
  const auto tried = [&](const std::string& place) {
    recipe("[steps]\ninstall = \"mkdir {stage}/usr; head -c 8000000 /dev/urandom > " + place + "\"\n");
    return build();
  };
  const Ran step = tried("{stage}/usr/large");
  EXPECT_EQ(step.code, 1);
  EXPECT_THAT(step.err, HasSubstr("No space left on device"));
  EXPECT_TRUE(fs::is_empty(small / "builds"));
  // the package file itself goes to a disk that is full
  ASSERT_EQ(::mount("none", out().c_str(), "tmpfs", 0, "size=64k,mode=0755"), 0);
  recipe("[steps]\ninstall = \"mkdir {stage}/usr; head -c 1000000 /dev/urandom > {stage}/usr/large\"\n");
  const Ran packed = build();
  EXPECT_EQ(packed.code, 1);
  EXPECT_THAT(packed.err, HasSubstr("No space left on device"));
  EXPECT_TRUE(fs::is_empty(out()));
  EXPECT_TRUE(fs::is_empty(small / "builds"));
  ::umount2(out().c_str(), MNT_DETACH);
  recipe("[steps]\ninstall = \"mkdir {stage}/usr; cp table {stage}/usr\"\n");
  EXPECT_EQ(build().code, 0) << "the next one is as good as ever";
  ::umount2(small.c_str(), MNT_DETACH);
}

/// With a build root of this machine's shell and small tools.
class BuildRoots : public Building {
 protected:
  void SetUp() override {
    ASSERT_EQ(run({"python3", HAMBREL_SOURCE "/demo/machine_packages.py", HAMBREL_PROGRAM,
                   station.repository().string(), "base-tools"})
                  .err,
              "");
    station.pack("mould", "1-1", "[relations]\nrequires = [\"clay >= 2\"]\n", {{"usr/share/mould", "m\n"}});
    station.open();
  }
  Ran build(std::vector<std::string> more = {}) const {
    more.insert(more.begin(), {"build", folder().string(), "-o", out().string()});
    return station.hambrel(more);
  }
};

TEST_F(BuildRoots, HoldWhatTheRecipeNeedsAndNothingElse) {
  recipe(
      "[needs]\ntools = [\"sh\"]\n[steps]\ninstall = \"\"\"\nls / > tree; mkdir -p {stage}/usr/bin\n"
      "printf '#!/bin/sh\\n' > {stage}/usr/bin/salt; chmod 755 {stage}/usr/bin/salt; cp tree {stage}/usr\n\"\"\"\n");
  const Ran first = build();
  ASSERT_EQ(first.code, 0) << first.err;
  EXPECT_THAT(first.out, HasSubstr("1 package, "));
  EXPECT_THAT(first.out, HasSubstr("requires base-tools: usr/bin/salt needs /bin/sh"));
  const std::string tree = run({"tar", "--zstd", "-xOf", package(), "usr/tree"}).out;
  EXPECT_EQ(tree, "bin\ndev\netc\nlib\nlib64\nproc\nrun\nsbin\ntmp\nusr\nvar\n");
  const std::string bytes = read_file(package());
  EXPECT_THAT(build().out, HasSubstr("the build root is there"));
  EXPECT_EQ(read_file(package()), bytes);
  EXPECT_FALSE(fs::exists(station.root() / "usr")) << "nothing of the system is changed";
  EXPECT_EQ(station.hambrel({"tidy", "builds", "-y"}).code, 0);
  ASSERT_EQ(build().code, 0);
  EXPECT_EQ(read_file(package()), bytes) << "also by a build root that is made anew";
}

TEST_F(BuildRoots, WhatCannotBeMetIsRefusedWithItsReasonBeforeAnythingIsRun) {
  recipe("[needs]\ntools = [\"sh\"]\nlibraries = [\"mould\"]\n[steps]\ninstall = [[\"true\"]]\n");
  const Ran refused = build();
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err, HasSubstr("mould 1-1 requires clay >= 2, which is not available"));
  EXPECT_TRUE(left().empty());
  // what was built before can be used, too
  const fs::path clay = station.path("clay");
  write_file(
      clay / "recipe.toml",
      "[recipe]\nname = \"clay\"\nversion = \"2\"\nsummary = \"clay\"\nlicense = \"MIT\"\n[[sources]]\nfile = \"f\"\n"
      "[needs]\ntools = [\"sh\"]\n[steps]\ninstall = \"mkdir {stage}/usr; cp f {stage}/usr/clay\"\n");
  write_file(clay / "f", "clay\n");
  const std::string place = station.path("made").string();
  fs::create_directories(place);
  ASSERT_EQ(station.hambrel({"build", clay.string(), "-o", place}).code, 0);
  recipe(
      "[needs]\ntools = [\"sh\"]\nlibraries = [\"mould\"]\n[steps]\ninstall = \"mkdir {stage}/usr; cp /usr/clay "
      "{stage}/usr\"\n");
  const Ran built = build({"--packages", place});
  EXPECT_EQ(built.code, 0) << built.err;
  EXPECT_THAT(built.out, HasSubstr("base-tools, clay, mould"));
}

}  // namespace hambrel::test
