// Repositories over the disk and over HTTP, whole and broken; making packages; looking.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <unistd.h>

#include <sstream>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

class Repository : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lamp", "1-1", "description = \"lights a harbour\"\n[relations]\nprovides = [\"light = 1\"]\n",
                 {{"usr/bin/lamp", "l"}});
    station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "ll"}});
    station.pack("buoy", "1-1", "", {{"usr/bin/buoy", "b"}, {"etc/buoy.conf", "x"}});
    write_file(station.repository() / "repository.toml", "[[channel]]\nname = \"beta\"\npackages = [\"lamp >= 2\"]\n");
    station.open();
  }
  Station station;
};

TEST_F(Repository, OneBrokenRepositoryDoesNotSpoilTheOthers) {
  station.hambrel({"repo", "add", "broken", "file:///nowhere/at/all", "--unsigned"});
  const Ran ran = station.hambrel({"refresh"});
  EXPECT_EQ(ran.code, 1);
  EXPECT_THAT(ran.err, HasSubstr("broken: file:///nowhere/at/all/trust/timestamp.json: cannot be fetched"));
  EXPECT_THAT(ran.out, HasSubstr("unchanged"));
  EXPECT_EQ(station.hambrel({"install", "lamp", "-y"}).code, 0);
}

TEST_F(Repository, WhatBeganWithHttpsNeverGoesOnWithoutIt) {
  const auto install_from = [&](const std::string& address) {
    return run({"python3", HAMBREL_SOURCE "/tests/scenario/with_https.py", station.path("").string(),
                station.repository().string(), HAMBREL_PROGRAM, "--root", station.root().string(), "install", "-n",
                address + "/packages/buoy/1-1.independent.hambrel"});
  };
  const Ran good = install_from("HTTPS");
  if (good.code == 77) GTEST_SKIP() << "this process may not mount anything";
  EXPECT_EQ(good.code, 0) << good.err;
  EXPECT_THAT(good.out, HasSubstr("buoy"));
  const Ran away = install_from("HTTPS/away");
  EXPECT_EQ(away.code, 5);
  EXPECT_THAT(away.err,
              HasSubstr("the server redirects to an address Hambrel does not follow: from https only to https"));
  EXPECT_THAT(away.err, HasSubstr("plain http was asked 0 times"));
}

TEST_F(Repository, ATamperedIndexOrPackageIsNotTrusted) {
  write_file(station.repository() / "index/full-1.jsonl.zst", "something else");
  station.hambrel({"repo", "drop", "base"});
  station.hambrel({"repo", "add", "base", "file://" + station.repository().string(), "--unsigned"});
  const Ran refresh = station.hambrel({"refresh"});
  EXPECT_EQ(refresh.code, 5);
  EXPECT_THAT(refresh.err, HasSubstr("index/full-1.jsonl.zst: is not what the list of targets describes"));

  fs::remove_all(station.repository() / "index");
  fs::remove_all(station.repository() / "trust");
  station.publish();
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
  const std::string file = (station.repository() / "packages/buoy/1-1.independent.hambrel").string();
  std::string content = read_file(file);
  content[20] = static_cast<char>(content[20] ^ 1);
  write_file(file, content);
  const Ran install = station.hambrel({"install", "buoy", "-y"});
  EXPECT_EQ(install.code, 5);
  EXPECT_THAT(install.err,
              HasSubstr("packages/buoy/1-1.independent.hambrel: buoy 1-1 is not the file that base describes"));
  EXPECT_EQ(station.installed(), "");
  EXPECT_THAT(station.hambrel({"ledger"}).out, HasSubstr("failed"));
  EXPECT_EQ(run({HAMBREL_PROGRAM, "publish", station.repository().string()}).code, 5);
}

TEST_F(Repository, PublishingAgainChangesNothingUntilAPackageComes) {
  EXPECT_THAT(station.publish().out, HasSubstr("index 1 is up to date"));
  station.pack("horn", "1-1", "", {{"usr/bin/horn", "h"}});
  EXPECT_THAT(station.publish().out, HasSubstr("index 2 written, 4 package versions in beta, stable"));
  EXPECT_THAT(station.hambrel({"refresh"}).out, HasSubstr("new"));
  EXPECT_EQ(station.hambrel({"install", "horn", "-y"}).code, 0);
}

TEST_F(Repository, ChannelsAreFollowedOrNamed) {
  EXPECT_EQ(station.hambrel({"install", "lamp", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lamp 1-1");
  EXPECT_EQ(station.hambrel({"install", "lamp@beta", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lamp 2-1");
  EXPECT_EQ(station.hambrel({"install", "lamp@alpha", "-y"}).code, 3);
}

TEST_F(Repository, APathNamesThePackageOnOfferThatBringsIt) {
  fs::create_directories(station.root() / "usr/bin");
  fs::create_directory_symlink("usr/bin", station.root() / "bin");
  const auto plan = station.hambrel({"install", "/bin/lamp", "--dry-run"});
  EXPECT_THAT(plan.out, HasSubstr("install  lamp  1-1  asked for"));
  EXPECT_EQ(station.hambrel({"install", "/usr/bin/lamp", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lamp 1-1");
  EXPECT_EQ(station.hambrel({"remove", "/bin/lamp", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"remove", "/usr/bin/buoy", "-y"}).err, HasSubstr("no installed package has this file"));
  EXPECT_THAT(station.hambrel({"install", "/usr/bin/horn", "-y"}).err,
              HasSubstr("no installed or available package has this file"));
  write_file(station.repository() / "repository.toml", "[[channel]]\nname = \"beta\"\npackages = [\"buoy\"]\n");
  station.publish();
  station.hambrel({"refresh"});
  const Ran unseen = station.hambrel({"install", "/usr/bin/buoy", "-y"});
  EXPECT_EQ(unseen.code, 3);
  EXPECT_THAT(unseen.err, HasSubstr("only buoy 1-1 has it, which is in no followed channel"));
}

TEST_F(Repository, TheExampleOfTheLibraryInstallsAndTakesBack) {
  const Ran ran = run({HAMBREL_LIBRARY_EXAMPLE, station.root().string(), "lamp"});
  EXPECT_EQ(ran.out, "lamp 1-1: asked for\ndone as transaction 1\nand taken back by 2\n");
  EXPECT_EQ(station.installed(), "");
  EXPECT_THAT(run({HAMBREL_LIBRARY_EXAMPLE, station.root().string(), "lamb"}).out, HasSubstr("no package is called"));
  const std::string shown = read_file(HAMBREL_SOURCE "/docs/library.md");
  EXPECT_THAT(shown, HasSubstr(read_file(HAMBREL_SOURCE "/tests/operations/library_example.cpp")));
}

TEST_F(Repository, TheWholeLineOverHttp) {
  const Ran served = run({std::string(HAMBREL_SOURCE) + "/tests/scenario/nginx.sh", station.repository().string(),
                          station.path("run").string()});
  if (served.code != 0) GTEST_SKIP() << "no HTTP server at hand: " << served.err;
  const std::string url = served.out.substr(0, served.out.find('\n'));
  station.hambrel({"repo", "drop", "base"});
  EXPECT_EQ(station.hambrel({"repo", "add", "base", url, "--unsigned"}).code, 0);
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
  EXPECT_THAT(station.hambrel({"files", "buoy"}).out,
              HasSubstr("/etc/buoy.conf"));  // the table alone, by a ranged read
  EXPECT_THAT(read_file(station.path("run/access.log")), HasSubstr("\" 206 "));
  EXPECT_EQ(station.hambrel({"install", "buoy", "lamp", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"install", url + "/packages/lamp/2-1.independent.hambrel", "-y", "--allow-unsigned"}).code,
            0);
  EXPECT_EQ(station.installed(), "buoy 1-1, lamp 2-1");
  run({"sh", "-c", "kill $(cat " + station.path("run/nginx.pid").string() + ")"});
}

TEST_F(Repository, LookingFindsAndTells) {
  EXPECT_THAT(station.hambrel({"search", "harbour"}).out, HasSubstr("in the description"));
  EXPECT_THAT(station.hambrel({"search", "light"}).out, HasSubstr("lamp"));
  EXPECT_THAT(station.hambrel({"search", "lampp"}).out, HasSubstr("did you mean lamp?"));
  station.hambrel({"install", "buoy", "-y"});
  EXPECT_EQ(station.hambrel({"owner", "/usr/bin/buoy"}).out, "  /usr/bin/buoy  buoy\n");
  EXPECT_EQ(station.hambrel({"owner", "/usr/bin/other"}).code, 1);
  EXPECT_EQ(station.json({"describe", "lamp"})["versions"].size(), 2U);
  EXPECT_THAT(station.hambrel({"list", "available", "not:installed"}).out, HasSubstr("lamp"));
  EXPECT_EQ(station.hambrel({"list", "available", "not:installed", "name:b*"}).out, "No packages match.\n");
  EXPECT_EQ(station.hambrel({"list", "wanted", "--exit-code"}).code, 10);
  EXPECT_EQ(station.hambrel({"list", "upgradable", "--exit-code"}).code, 0);
}

TEST_F(Repository, RepositoriesAreAddedRankedDisabledAndDropped) {
  EXPECT_EQ(station.hambrel({"repo", "add", "base", "http://h/x", "--unsigned"}).err.substr(0, 8), "Refused:");
  EXPECT_EQ(station
                .hambrel({"repo", "add", "second", "file://" + station.repository().string() + "/", "--channels",
                          "stable,beta", "--rank", "10", "--unsigned"})
                .code,
            0);
  station.hambrel({"refresh", "second"});
  EXPECT_EQ(station.hambrel({"install", "lamp", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "lamp 2-1") << "the second follows beta";
  EXPECT_EQ(station.json({"describe", "buoy"})["offers"][0]["repository"], "second") << "the smaller rank is preferred";
  EXPECT_EQ(station.hambrel({"repo", "disable", "second"}).code, 0);
  EXPECT_EQ(station.json({"describe", "buoy"})["offers"][0]["repository"], "base");
  EXPECT_THAT(station.hambrel({"repo", "list"}).out, HasSubstr("disabled"));
  EXPECT_EQ(station.hambrel({"repo", "enable", "second"}).code, 0);
  EXPECT_EQ(station.hambrel({"repo", "drop", "second"}).code, 0);
  EXPECT_FALSE(fs::exists(station.root() / "var/cache/hambrel/index/second"));
  EXPECT_EQ(station.hambrel({"repo", "drop", "secnd"}).code, 1);
  EXPECT_EQ(station.hambrel({"repo", "lst"}).err, "Failed: there is no `hambrel repo lst`\n  -> did you mean list?\n");
}

TEST_F(Repository, ListsByEachCondition) {
  station.hambrel({"install", "lamp", "buoy", "-y"});
  station.pack("desk", "1-1", "[relations]\nrequires = [\"cord\"]\n", {{"usr/bin/desk", "d"}});
  station.pack("cord", "1-1", "", {{"usr/bin/cord", "c"}});
  station.pack("buoy", "2-1", "", {{"usr/bin/buoy", "bb"}});
  station.publish();
  station.hambrel({"refresh"});
  station.hambrel({"install", "desk", "-y"});
  const auto names = [&](std::vector<std::string> conditions) {
    conditions.insert(conditions.begin(), "list");
    conditions.push_back("--json");
    std::string text;
    std::istringstream lines(station.hambrel(conditions).out);
    for (std::string line; std::getline(lines, line);)
      text += nlohmann::json::parse(line)["name"].get<std::string>() + " ";
    return text;
  };
  EXPECT_EQ(names({}), "buoy cord desk lamp ");
  EXPECT_EQ(names({"wanted"}), "buoy desk lamp ");
  EXPECT_EQ(names({"pulled-in"}), "cord ");
  EXPECT_EQ(names({"upgradable"}), "buoy ");
  EXPECT_EQ(names({"installed", "not:upgradable", "name:*o*"}), "cord ");
  EXPECT_EQ(names({"repo:base", "not:installed"}), "");
  station.hambrel({"remove", "desk", "-y"});
  EXPECT_EQ(names({"unneeded"}), "cord ");
  EXPECT_EQ(names({"available", "not:installed"}), "desk ");
  EXPECT_EQ(station.hambrel({"remove", "--unneeded", "buoy", "-y"}).code, 0);
  EXPECT_EQ(names({}), "lamp ") << "what nothing wanted needs goes along";
}

TEST_F(Repository, MistakesOnTheCommandLineGetAnAnswer) {
  const auto told = [&](const std::vector<std::string>& words, int code) {
    const Ran ran = station.hambrel(words);
    EXPECT_EQ(ran.code, code) << ran.err;
    return station.without_root(ran.err);
  };
  EXPECT_EQ(told({"instal", "lamp"}, 2), "Failed: no command is called \"instal\"\n  -> did you mean install?\n");
  EXPECT_EQ(told({"install", "lamb", "-y"}, 3),
            "Refused: no package is called or provides \"lamb\"\n  -> did you mean lamp?\n");
  EXPECT_EQ(told({"install", "lamp", "--yess"}, 2),
            "Failed: `hambrel install` has no option --yess\n  -> did you mean --yes?\n");
  EXPECT_EQ(told({"install", "lamp=9", "-y"}, 3),
            "Refused: lamp = 9 is not available\n  -> available versions: 2-1 (base/beta), 1-1 (base/stable)\n");
  EXPECT_EQ(told({"install"}, 2),
            "Failed: usage: hambrel install SPEC...\n  -> `hambrel help install` shows examples\n");
  EXPECT_EQ(told({"install", "Lamp!", "-y"}, 2).substr(0, 50), "Failed: \"Lamp!\" is not the name of a package: name");
  EXPECT_EQ(told({"remove", "buoi", "-y"}, 3),
            "Refused: no installed package is called \"buoi\"\n  -> `hambrel list` shows what is installed\n");
  EXPECT_EQ(told({"undo", "x", "-y"}, 2),
            "Failed: \"x\" is not the number of a transaction\n  -> `hambrel ledger` shows the numbers; the newest one "
            "is also called last\n");
  EXPECT_EQ(told({"repo", "add", "x", "gopher://h"}, 2),
            "Failed: \"gopher://h\" is not the URL of a repository\n  -> write http://HOST/PATH, https://HOST/PATH or "
            "file:///PATH\n");
  EXPECT_EQ(told({"list", "installd"}, 2),
            "Failed: \"installd\" is not a condition of list\n  -> did you mean installed?\n");
  EXPECT_EQ(told({"install", "./nothing.hambrel", "-y"}, 1).substr(0, 58),
            "Failed: ./nothing.hambrel: the package file does not exist");
}

TEST_F(Repository, AnotherArchitectureIsRefusedByName) {
  write_file(station.root() / "etc/hambrel/hambrel.toml", "arch = \"aarch64\"\n");
  const fs::path source = station.path("src-tug");
  write_file(source / "package.toml", "name = \"tug\"\nversion = \"1-1\"\narch = \"x86_64\"\nsummary = \"tug\"\n");
  write_file(source / "root/usr/bin/tug", "t");
  const std::string file = (station.repository() / "packages/tug/1-1.x86_64.hambrel").string();
  fs::create_directories(fs::path(file).parent_path());
  run({HAMBREL_PROGRAM, "pack", source.string(), "-o", file});
  station.publish();
  station.hambrel({"refresh"});
  EXPECT_EQ(
      station.hambrel({"install", "tug", "-y"}).err,
      "Refused: tug is not built for this root's architecture, aarch64\n  -> available versions: 1-1 for x86_64\n");
  EXPECT_THAT(station.hambrel({"install", "lamp=3", "-y"}).err,
              HasSubstr("available versions: 2-1 (base/beta), 1-1 (base/stable)"));
  const Ran ran = station.hambrel({"install", file, "-y"});
  EXPECT_EQ(ran.code, 3);
  EXPECT_THAT(ran.err, HasSubstr("tug 1-1 is built for x86_64; this root is aarch64"));
}

TEST_F(Repository, LookingNeedsNoPrivilegeAndChangesNothing) {
  if (geteuid() != 0) GTEST_SKIP() << "only root can become somebody else";
  station.hambrel({"install", "lamp", "-y"});
  fs::permissions(station.root().parent_path(), fs::perms::owner_all | fs::perms::others_exec | fs::perms::others_read);
  const auto before = tree(station.root());
  const auto as_nobody = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups", HAMBREL_PROGRAM,
                                 "--root", station.root().string()});
    return run(words);
  };
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{{"list"},
                                                                                     {"search", "lamp"},
                                                                                     {"describe", "lamp"},
                                                                                     {"files", "lamp"},
                                                                                     {"files", "buoy"},
                                                                                     {"owner", "/usr/bin/lamp"},
                                                                                     {"ledger"},
                                                                                     {"ledger", "show", "1"},
                                                                                     {"repo", "list"},
                                                                                     {"install", "buoy", "--dry-run"},
                                                                                     {"undo", "1", "--dry-run"},
                                                                                     {"help"}}) {
    const Ran ran = as_nobody(words);
    EXPECT_EQ(ran.code, 0) << words[0] << ": " << ran.err;
    EXPECT_EQ(ran.err, "") << words[0];
  }
  const Ran change = as_nobody({"install", "buoy", "-y"});
  EXPECT_EQ(change.code, 1);
  EXPECT_THAT(change.err, HasSubstr("private/lock: cannot open: Permission denied\n  -> run the command as root"));
  EXPECT_EQ(tree(station.root()), before);
}

TEST_F(Repository, EveryLookingCommandAndEveryPlanSpeaksJson) {
  station.hambrel({"install", "lamp", "-y"});
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{{"list", "available"},
                                                                                     {"search", "lamp"},
                                                                                     {"describe", "lamp"},
                                                                                     {"files", "lamp"},
                                                                                     {"owner", "/usr/bin/lamp"},
                                                                                     {"ledger"},
                                                                                     {"ledger", "show", "1"},
                                                                                     {"repo", "list"},
                                                                                     {"refresh"},
                                                                                     {"install", "buoy", "-n"},
                                                                                     {"install", "lamp", "-n"},
                                                                                     {"undo", "1", "-n"},
                                                                                     {"upgrade", "-n"},
                                                                                     {"install", "nothing", "-n"},
                                                                                     {"install", "buoy"},
                                                                                     {"version"}}) {
    std::vector<std::string> with_json = words;
    with_json.push_back("--json");
    const Ran ran = station.hambrel(with_json);
    std::istringstream lines(ran.out);
    int objects = 0;
    for (std::string line; std::getline(lines, line); ++objects)
      EXPECT_TRUE(nlohmann::json::parse(line).is_object()) << words[0];
    EXPECT_GE(objects, 1) << words[0];
  }
  const auto plan = station.json({"install", "buoy", "-n"})["plan"];
  EXPECT_EQ(plan["steps"][0]["why"]["kind"], "asked");
  EXPECT_EQ(plan["steps"][0]["origin"], "base/stable");
  EXPECT_EQ(station.json({"install", "buoy", "-y"})["transaction"], 2);
  EXPECT_EQ(station.json({"remove", "buoy"})["error"]["problem"], "--json never asks");
}

TEST_F(Repository, ADamagedPackageFileIsRefusedByEveryCommand) {
  const std::string good =
      station.pack("solo", "1-1", "", {{"usr/bin/solo", "s"}}, station.path("solo.hambrel").string());
  std::string content = read_file(good);
  write_file(good, content.substr(0, content.size() - 1));
  for (const std::string command : {"describe", "files"}) EXPECT_EQ(station.hambrel({command, good}).code, 5);
  content[200] = static_cast<char>(content[200] ^ 4);  // in the frame of the payload or the manifest
  write_file(good, content);
  EXPECT_EQ(station.hambrel({"install", good, "-y", "--allow-unsigned"}).code, 5);
  EXPECT_EQ(station.installed(), "");
}

TEST_F(Repository, ASecondReaderWrittenFromTheDocumentAgrees) {
  const fs::path source = station.path("src-all");
  write_file(source / "package.toml",
             "name = \"all\"\nversion = \"1-1\"\narch = \"independent\"\nsummary = \"süß\"\n[[attributes]]\nfiles = "
             "\"usr/bin/*\"\n"
             "user = \"a-user-with-a-name-of-more-than-thirty-one-bytes\"\ngroup = \"größe\"\nmode = \"4755\"\n");
  write_file(source / "root/usr/bin/tool", "tool");
  write_file(source / "root/usr/share/größe 北", "names");
  write_file(source / "root/usr/share" / std::string(99, 'n'), "a name of 109 bytes");
  write_file(source / "root/usr/share/big", std::string(3'000'000, 'b'));
  write_file(source / "root/usr/share/empty", "");
  fs::create_symlink("/" + std::string(150, 't'), source / "root/usr/share/link");
  fs::create_hard_link(source / "root/usr/share/big", source / "root/usr/share/same");
  run({"setfattr", "-n", "user.note", "-v", "hello", (source / "root/usr/share/empty").string()});
  ASSERT_EQ(run({HAMBREL_PROGRAM, "pack", source.string(), "-o", station.path("all.hambrel").string()}).code, 0);
  const Ran second = run({"python3", std::string(HAMBREL_SOURCE) + "/tests/scenario/second_reader.py",
                          station.path("all.hambrel").string()});
  EXPECT_EQ(second.code, 0) << second.err;
  std::string first;
  std::istringstream lines(station.hambrel({"files", station.path("all.hambrel").string(), "--json"}).out);
  for (std::string line; std::getline(lines, line);) {
    const auto entry = nlohmann::json::parse(line);
    if (entry["type"] == "file")
      first += entry["path"].get<std::string>().substr(1) + " " + entry["sha256"].get<std::string>() + "\n";
  }
  EXPECT_EQ(second.out, first);
}

TEST_F(Repository, EveryCommandAndTopicOfTheOverviewIsExplained) {
  std::istringstream overview(run({HAMBREL_PROGRAM, "help"}).out);
  std::size_t commands = 0, topics = 0;
  bool of_topics = false;
  for (std::string line; std::getline(overview, line);) {
    of_topics = of_topics || line == "Topics";
    if (line.starts_with("Options")) break;
    if (!line.starts_with("  ")) continue;
    const std::string name = line.substr(2, line.find(' ', 2) - 2);
    const Ran ran = run({HAMBREL_PROGRAM, "help", name});
    EXPECT_EQ(ran.code, 0) << name << ran.err;
    if (of_topics) {
      EXPECT_THAT(ran.out, testing::StartsWith(name + ": "));
      ++topics;
      continue;
    }
    EXPECT_THAT(ran.out, HasSubstr("Examples\n  hambrel "));
    EXPECT_EQ(ran.out, run({HAMBREL_PROGRAM, name, "--help"}).out);
    ++commands;
  }
  EXPECT_GT(commands, 30U);
  EXPECT_EQ(topics, 9U);
  EXPECT_THAT(run({HAMBREL_PROGRAM, "help", "confguration"}).err, HasSubstr("configuration"));
}

TEST(Manual, EveryPageIsSoundAndHoldsEveryCommand) {
  const fs::path pages = fs::path(HAMBREL_PROGRAM).parent_path();
  for (const char* const page : {"hambrel.1", "hambrel.toml.5", "package.toml.5", "recipe.toml.5"}) {
    const Ran shown = run({"man", "--warnings", "-l", (pages / page).string()});
    EXPECT_EQ(shown.code, 0) << page;
    EXPECT_EQ(shown.err, "") << page;
    EXPECT_GT(shown.out.size(), 1000U) << page;
    if (std::string_view(page) != "hambrel.1") continue;
    for (const char* const text : {"install SPEC...", "complete-words", "HAMBREL_TEST", "--dry-run", "EXIT CODES"})
      EXPECT_EQ(shown.out.find(text) != std::string::npos,
                std::string_view(text) != "complete-words" && std::string_view(text) != "HAMBREL_TEST")
          << text;
  }
}

TEST_F(Repository, TheShellsCompleteWhatFits) {
  station.hambrel({"install", "-y", "lamp", "buoy"});
  station.hambrel({"hold", "-y", "buoy"});
  station.hambrel({"checkpoint", "make", "spring"});
  const std::string root = "--root " + station.root().string();
  struct Case {
    std::string line, expected;  // in the line as the shell leaves it, or among what it shows
  };
  const std::vector<Case> cases{{"hambrel upg", "upgrade"},
                                {"hambrel " + root + " install lamp=", "2-1"},
                                {"hambrel " + root + " release ", "buoy"},
                                {"hambrel " + root + " hold ", "lamp"},
                                {"hambrel " + root + " repo disable ", "base"},
                                {"hambrel " + root + " checkpoint drop ", "spring"},
                                {"hambrel " + root + " undo ", "1"},
                                {"hambrel install --configs=m", "--configs=merge"},
                                {"hambrel install --configs t", "take"},
                                {"hambrel pack " + station.path("repo").string(), station.repository().string()},
                                {"hambrel ledger sh", "show"},
                                {"hambrel " + root + " list repo:", "base"}};
  for (const char* const shell : {"bash", "zsh", "fish"})
    for (const Case& one : cases) {
      const Ran ran =
          run({"python3", HAMBREL_SOURCE "/tests/scenario/complete_in_shell.py", HAMBREL_PROGRAM, shell, one.line});
      std::string shown = ran.out;  // without what was typed
      for (auto at = shown.find(one.line); at != std::string::npos && std::string_view(shell) != "fish";
           at = shown.find(one.line, at + one.line.size()))
        if (shown.compare(at + one.line.size(), 1, "\r") == 0) shown.erase(at, one.line.size());
      EXPECT_THAT(shown, HasSubstr(one.expected)) << shell << ": " << one.line << ran.err;
    }
  const std::string held = station.hambrel({"complete-words", "--", "release", ""}).out;
  EXPECT_EQ(held, "buoy\tbuoy\n");
}

TEST(Cache, AFileThatWasDamagedThereIsFetchedAgain) {
  const Station station;
  std::string noise(300'000, ' ');
  for (std::size_t i = 0, x = 1; i < noise.size(); ++i)
    noise[i] = static_cast<char>((x = x * 1664525 + 1013904223) >> 24U);
  station.pack("lamp", "1-1", "", {{"usr/share/lamp", noise}});
  station.open();
  ASSERT_EQ(station.hambrel({"install", "-y", "--download-only", "lamp"}).code, 0);
  EXPECT_EQ(station.installed(), "");
  const fs::path cached = station.root() / "var/cache/hambrel/packages/lamp/1-1.independent.hambrel";
  const std::string sound = read_file(cached);
  for (const std::size_t place : {sound.size() / 2, sound.size() - 200, sound.size() - 20}) {  // content, table, end
    std::string damaged = sound;
    damaged[place] = static_cast<char>(damaged[place] ^ 1);
    write_file(cached, damaged);
    const Ran ran = station.hambrel({"install", "-y", "lamp"});
    EXPECT_EQ(ran.code, 0) << place << ran.err;
    EXPECT_THAT(ran.err, testing::HasSubstr("it is fetched again")) << place;
    const bool known = place > sound.size() / 2;  // before it is planned, as its table can't be read
    EXPECT_THAT(ran.out, testing::HasSubstr(known ? "Fetches 2" : "Nothing to fetch")) << place;
    EXPECT_TRUE(read_file(cached) == sound) << place;
    EXPECT_EQ(station.hambrel({"remove", "-y", "lamp"}).code, 0);
    write_file(cached, damaged);
    EXPECT_EQ(station.hambrel({"install", "-y", "--download-only", "lamp"}).code, 0);
    EXPECT_TRUE(read_file(cached) == sound) << "what is to wait in the cache is looked at whole: " << place;
  }
  const std::string ledger = station.hambrel({"ledger"}).out;
  EXPECT_EQ(ledger.find("failed"), ledger.rfind("failed")) << "what was seen before staging began is no failure";
}

TEST(UnsignedRepository, NobodyVouchesForWhatIsNotSignedAndEachPlanAndTheLedgerSaySo) {
  const Station station;
  station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "l"}});
  EXPECT_EQ(station.publish().code, 0);
  const std::string url = "file://" + station.repository().string();
  const Ran refused = station.hambrel({"repo", "add", "base", url, "--yes"});
  EXPECT_EQ(refused.code, 1);
  EXPECT_THAT(refused.err, HasSubstr("the repository is not signed"));
  EXPECT_FALSE(fs::exists(station.root() / "etc/hambrel/repos/base.toml"));

  // a file that was written by hand is no decision
  write_file(station.root() / "etc/hambrel/repos/base.toml", "url = \"" + url + "\"\n");
  const Ran undecided = station.hambrel({"refresh"});
  EXPECT_EQ(undecided.code, 5);
  EXPECT_THAT(undecided.err, HasSubstr("its keys are not trusted yet"));
  EXPECT_EQ(station.hambrel({"install", "lamp", "-y"}).code, 3);
  write_file(station.root() / "etc/hambrel/repos/base.toml", "url = \"" + url + "\"\ntrust = \"none\"\n");
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
  EXPECT_THAT(station.hambrel({"repo", "list"}).out, HasSubstr("not signed"));
  EXPECT_THAT(station.hambrel({"install", "lamp", "-n"}).out,
              HasSubstr("nobody vouches for what comes from base, which is not verified: lamp"));
  EXPECT_EQ(station.hambrel({"install", "lamp", "-y"}).code, 0);
  // what was accepted once is not accepted for ever
  write_file(station.root() / "etc/hambrel/repos/base.toml", "url = \"" + url + "\"\n");
  EXPECT_THAT(station.hambrel({"repo", "list"}).out, HasSubstr("its file allows that no longer"));
  EXPECT_EQ(station.hambrel({"refresh"}).code, 5);
  const auto step = station.json({"ledger", "show", "1"})["plan"]["steps"][0];
  EXPECT_EQ(step["vouched"], nlohmann::json::parse(R"({"keys": [], "root": 0})"));
}

}  // namespace hambrel::test
