// Configuration from the first edit to the purge, as administrators meet it.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <sys/stat.h>
#include <unistd.h>

#include <random>

#include "base/digest.h"
#include "base/merge.h"
#include "scenario/station.h"

namespace hambrel::test {

using testing::ContainsRegex;
using testing::HasSubstr;
using testing::Not;

namespace {

constexpr const char* kConfig = "[config]\nfiles = [\"etc/**\"]\n";
const std::string kOne = "station = 1\n\nlamps = 4\n\nevery = 60\n", kTwo = "station = 1\n\nlamps = 4\n\nevery = 30\n",
                  kMine = "station = 7\n\nlamps = 4\n\nevery = 60\n",
                  kBoth = "station = 7\n\nlamps = 4\n\nevery = 30\n",
                  kClash = "station = 1\n\nlamps = 4\n\nevery = 5\n";

}  // namespace

class Configs : public testing::Test {
 protected:
  void pack(const std::string& version, const std::map<std::string, std::string>& files,
            const std::string& name = "lamp") {
    auto all = files;
    all["usr/bin/" + name] = version;
    station.pack(name, version, kConfig, all);
  }
  void two_versions() {
    pack("1-1", {{"etc/lamp.conf", kOne}, {"etc/other.conf", "a\n"}});
    pack("2-1", {{"etc/lamp.conf", kTwo}, {"etc/other.conf", "b\n"}});
    station.open();
    install("lamp=1");
  }
  void install(const std::string& spec) {
    const Ran ran = station.hambrel({"install", spec, "-y"});
    ASSERT_EQ(ran.code, 0) << ran.err;
  }
  std::string conf(const std::string& name = "lamp.conf") const { return read_file(station.root() / "etc" / name); }
  void edit(const std::string& content, const std::string& name = "lamp.conf") const {
    write_file(station.root() / "etc" / name, content);
  }
  /// "edited /etc/a, waiting /etc/b": all that is not pristine.
  std::string states() const {
    std::string text;
    std::istringstream lines(station.hambrel({"configs", "--json"}).out);
    for (std::string line; std::getline(lines, line);) {
      const auto one = nlohmann::json::parse(line);
      if (one["state"] != "pristine")
        text += (text.empty() ? "" : ", ") + one["state"].get<std::string>() + " " + one["path"].get<std::string>();
    }
    return text;
  }
  Station station;
};

TEST_F(Configs, EachChoiceOnTheCommandLineDoesWhatItSays) {
  two_versions();
  edit(kMine);
  const auto before = station.files();
  struct Case {
    const char *choice, *states;
    std::string content;
  };
  for (const auto& [choice, states_after, content] :
       {Case{"keep", "edited /etc/lamp.conf", kMine}, Case{"wait", "waiting /etc/lamp.conf", kMine},
        Case{"take", "", kTwo}, Case{"merge", "edited /etc/lamp.conf", kBoth}}) {
    const Ran ran = station.hambrel({"upgrade", "-y", "--configs", choice});
    ASSERT_EQ(ran.code, 0) << ran.err;
    EXPECT_THAT(ran.out, HasSubstr(std::string(choice) + "  /etc/lamp.conf  lamp  "));
    EXPECT_EQ(conf(), content) << choice;
    EXPECT_EQ(conf("other.conf"), "b\n") << "pristine: follows";
    EXPECT_EQ(states(), states_after) << choice;
    EXPECT_EQ(station.hambrel({"verify", "-q"}).code, 0);
    const std::string last = std::to_string(station.json({"ledger", "--most", "1"})["id"].get<int>());
    const Ran undo = station.hambrel({"undo", last, "-y"});
    ASSERT_EQ(undo.code, 0);
    EXPECT_THAT(undo.out, Not(HasSubstr("changed since"))) << "nobody but the transaction did";
    EXPECT_EQ(station.files(), before) << choice;
    EXPECT_EQ(states(), "edited /etc/lamp.conf");
  }
  EXPECT_EQ(station.hambrel({"upgrade", "-y", "--configs", "all"}).code, 2);
}

TEST_F(Configs, TheSettingsDecideByPatternAndTheDefaultWaits) {
  two_versions();
  edit(kMine);
  edit("mine\n", "other.conf");
  write_file(station.root() / "etc/hambrel/hambrel.toml",
             "[[configs]]\npaths = [\"/etc/other.*\"]\nchoice = \"take\"\n\n[[configs]]\npaths = [\"/etc/**\"]\n"
             "choice = \"merge\"\n");
  station.hambrel({"upgrade", "-y"});
  EXPECT_EQ(conf(), kBoth);
  EXPECT_EQ(conf("other.conf"), "b\n");
  station.hambrel({"undo", "2", "-y"});
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[[configs]]\npaths = [\"etc\"]\nchoice = \"take\"\n");
  EXPECT_THAT(station.hambrel({"upgrade", "-y"}).err, HasSubstr("hambrel.toml:2: configs.paths must begin with /"));
  write_file(station.root() / "etc/hambrel/hambrel.toml", "");
  station.hambrel({"upgrade", "-y"});
  EXPECT_EQ(states(), "waiting /etc/lamp.conf, waiting /etc/other.conf");
}

TEST_F(Configs, AllQuestionsComeOnceBeforeTheFirstChange) {
  two_versions();
  edit(kMine);
  edit("mine\n", "other.conf");
  const auto before = station.files();
  const Ran stopped = station.on_terminal("merge", {"upgrade"});
  EXPECT_EQ(stopped.code, 4) << "the input ended among the questions";
  EXPECT_EQ(station.files(), before);
  const Ran no = station.on_terminal("merge|take|no", {"upgrade"});
  EXPECT_EQ(no.code, 4);
  EXPECT_EQ(station.files(), before);
  const Ran ran = station.on_terminal("nonsense|show mine||take|yes", {"upgrade"});
  EXPECT_EQ(ran.code, 0) << ran.out;
  EXPECT_THAT(ran.out, HasSubstr("ask  /etc/lamp.conf"));
  EXPECT_THAT(ran.out, HasSubstr("1 of 2"));
  EXPECT_THAT(ran.out, HasSubstr("\"nonsense\" is not one of the choices."));
  EXPECT_THAT(ran.out, HasSubstr("You changed 1 line, the new version 1 line; the changes do not overlap."));
  EXPECT_LT(ran.out.find("/etc/other.conf  lamp 1-1 -> 2-1"), ran.out.find("Continue?"));
  EXPECT_EQ(conf(), kBoth);
  EXPECT_EQ(conf("other.conf"), "b\n");
}

TEST_F(Configs, WhatDoesNotMergeWaitsAndIsSettledLaterInTheEditor) {
  two_versions();
  edit(kClash);
  const Ran upgrade = station.hambrel({"upgrade", "-y", "--configs", "merge"});
  EXPECT_THAT(upgrade.out,
              HasSubstr("/etc/lamp.conf cannot be merged: you and the new version changed the same lines"));
  EXPECT_EQ(conf(), kClash);
  EXPECT_THAT(station.hambrel({"configs", "diff", "/etc/lamp.conf"}).out, HasSubstr("- every = 5\n    + every = 30"));
  EXPECT_THAT(station.hambrel({"configs", "diff", "/etc/lamp.conf", "--against", "old"}).out,
              HasSubstr("- every = 60\n    + every = 5"));
  EXPECT_EQ(station.hambrel({"configs", "settle", "-y", "--configs", "merge"}).code, 0);
  EXPECT_EQ(conf(), kClash) << "never with markers unless asked";
  const std::map<std::string, std::string> leaves{{"EDITOR", "true"}},
      solves{{"EDITOR", (write_file(station.path("editor"),
                                    "#!/bin/sh\nkill -INT $PPID\nexec sed -i -e "
                                    "'/^[<|=>]\\{7\\}/d' \"$1\"\n",
                                    0755),
                         station.path("editor").string())}};  // Ctrl-C is the editor's, not the program's
  const Ran kept = station.on_terminal("edit|wait", {"configs", "settle", "/etc/lamp.conf"}, leaves);
  EXPECT_THAT(kept.out, HasSubstr("It still contains conflict markers"));
  EXPECT_EQ(conf(), kClash);
  const Ran ran = station.on_terminal("edit|yes", {"configs", "settle", "/etc/lamp.conf"}, solves);
  EXPECT_EQ(ran.code, 0) << ran.out;
  EXPECT_EQ(conf(), "station = 1\n\nlamps = 4\n\nevery = 5\nevery = 60\nevery = 30\n");
  EXPECT_EQ(states(), "edited /etc/lamp.conf");
  EXPECT_THAT(station.hambrel({"ledger", "show", "3"}).out, HasSubstr("edit  /etc/lamp.conf"));
  edit("edited after that\n");
  const Ran undo = station.hambrel({"undo", "3", "-y"});
  ASSERT_EQ(undo.code, 0);
  EXPECT_THAT(undo.out, HasSubstr("/etc/lamp.conf was changed since: that version is moved to the attic"));
  EXPECT_EQ(conf(), kClash);
  EXPECT_EQ(states(), "waiting /etc/lamp.conf") << "as it was before it was settled";
  ASSERT_EQ(station.hambrel({"configs", "settle", "-y", "--configs", "merge", "--markers"}).code, 0);
  EXPECT_THAT(conf(), HasSubstr("<<<<<<< yours\nevery = 5\n"));
}

TEST_F(Configs, SettlingLaterGoesByWhatTheEditBeganFrom) {
  two_versions();
  pack("3-1", {{"etc/lamp.conf", kTwo + "\nmore = 1\n"}, {"etc/other.conf", "b\n"}});
  edit(kMine);
  station.hambrel({"upgrade", "lamp", "-y"});
  station.publish();
  station.hambrel({"refresh"});
  station.hambrel({"upgrade", "-y"});
  EXPECT_EQ(states(), "waiting /etc/lamp.conf");
  EXPECT_EQ(station.hambrel({"configs", "settle", "/etc/other.conf", "-y", "--configs", "take"}).code, 3);
  EXPECT_EQ(station.hambrel({"configs", "settle", "-y"}).code, 2) << "what is to become of it was not said";
  ASSERT_EQ(station.hambrel({"configs", "settle", "-y", "--configs", "merge"}).code, 0);
  EXPECT_EQ(conf(), kBoth + "\nmore = 1\n");
  fs::remove(station.root() / "etc/lamp.conf");
  EXPECT_EQ(states(), "missing /etc/lamp.conf");
  ASSERT_EQ(station.hambrel({"configs", "settle", "/etc/lamp.conf", "-y", "--configs", "take"}).code, 0);
  EXPECT_EQ(conf(), kTwo + "\nmore = 1\n");
  EXPECT_EQ(states(), "");
}

TEST_F(Configs, ARollbackBringsBackWhatWasMergedOrTakenSince) {
  two_versions();
  edit(kMine);
  edit("mine\n", "other.conf");
  station.hambrel({"upgrade", "-y", "--configs", "merge"});
  ASSERT_EQ(station.hambrel({"configs", "settle", "/etc/other.conf", "-y", "--configs", "take"}).code, 0);
  const Ran settled = station.hambrel({"rollback", "2", "-y"});
  EXPECT_THAT(settled.out, HasSubstr("restore  /etc/other.conf"));
  EXPECT_EQ(states(), "waiting /etc/other.conf, edited /etc/lamp.conf");
  ASSERT_EQ(station.hambrel({"undo", "4", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0);
  EXPECT_EQ(conf(), kMine) << "B6: nobody changed the merge after it was made";
  EXPECT_EQ(conf("other.conf"), "mine\n");
  EXPECT_EQ(states(), "edited /etc/lamp.conf, edited /etc/other.conf");
}

TEST_F(Configs, ARollbackPastAGivenUpAtticSaysWhatItCannotKnow) {
  two_versions();
  install("lamp=2");
  edit(kMine);
  station.hambrel({"install", "lamp=1", "--configs", "take", "-y"});
  station.hambrel({"install", "lamp=2", "--configs", "keep", "-y"});
  edit(kMine);
  ASSERT_EQ(station.hambrel({"install", "lamp=1", "--configs", "merge", "-y"}).code, 0);
  const std::string merged = conf();
  ASSERT_EQ(station.hambrel({"tidy", "attic", "--keep", "1", "-y"}).code, 0);
  const Ran ran = station.hambrel({"rollback", "1", "-y"});
  EXPECT_THAT(ran.out, HasSubstr("what was at /etc/lamp.conf then is no longer known")) << ran.err;
  EXPECT_EQ(conf(), merged);
}

TEST_F(Configs, WhatWaitsIsAlwaysOfTheVersionThatIsThere) {
  two_versions();
  edit(kMine);
  station.hambrel({"upgrade", "-y"});
  station.hambrel({"downgrade", "lamp=1", "--no-hold", "-y"});
  EXPECT_EQ(states(), "edited /etc/lamp.conf") << "back to what the edit began from: no newer version";
  station.hambrel({"undo", "3", "-y"});
  EXPECT_EQ(states(), "waiting /etc/lamp.conf");
  ASSERT_EQ(station.hambrel({"configs", "settle", "-y", "--configs", "merge"}).code, 0);
  ASSERT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  EXPECT_EQ(conf(), kBoth) << "the merge is the administrator's by now";
  const Ran refused = station.hambrel({"undo", "5", "-y"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err, HasSubstr("the version of /etc/lamp.conf that waited then is not the installed"));
}

TEST_F(Configs, ADefaultThatMovedTakesTheEditsAlong) {
  pack("1-1", {{"etc/lamp.conf", kOne}, {"etc/lamp", "x = 1\ny = 1\nz = 1\nu = 1\n"}, {"etc/gone.conf", "g\n"}});
  pack("2-1", {{"etc/lamp.d/lamp.conf", kTwo}, {"etc/lamp/main", "x = 1\ny = 1\nz = 1\nu = 2\n"}});
  station.open();
  install("lamp=1");
  edit(kMine);
  edit("x = 9\ny = 1\nz = 1\nu = 1\n", "lamp");
  edit("mine\n", "gone.conf");
  const auto before = station.files();
  const Ran ran = station.hambrel({"upgrade", "-y", "--configs", "merge"});
  ASSERT_EQ(ran.code, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("merge  /etc/lamp.d/lamp.conf  lamp  moved here from /etc/lamp.conf"));
  EXPECT_EQ(conf("lamp.d/lamp.conf"), kBoth);
  EXPECT_EQ(conf("lamp/main"), "x = 9\ny = 1\nz = 1\nu = 2\n") << "the file became a directory";
  EXPECT_FALSE(fs::exists(station.root() / "etc/lamp.conf"));
  EXPECT_EQ(states(), "edited /etc/lamp.d/lamp.conf, edited /etc/lamp/main, leftover /etc/gone.conf")
      << "a file that the package dropped stays as a leftover";
  ASSERT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  EXPECT_EQ(station.files(), before);
  station.hambrel({"upgrade", "-y"});  // waits, where it is now
  EXPECT_EQ(conf("lamp.d/lamp.conf"), kMine);
  EXPECT_THAT(states(), HasSubstr("waiting /etc/lamp.d/lamp.conf"));
  ASSERT_EQ(station.hambrel({"rollback", "1", "-y"}).code, 0);
  EXPECT_EQ(conf(), kMine);
  EXPECT_EQ(conf("lamp"), "x = 9\ny = 1\nz = 1\nu = 1\n");
  EXPECT_FALSE(fs::exists(station.root() / "etc/lamp.d"));
  EXPECT_EQ(states(), "edited /etc/gone.conf, edited /etc/lamp, edited /etc/lamp.conf");
}

TEST_F(Configs, ModeOwnerAndAttributesStayAsTheyWereSet) {
  two_versions();
  const std::string path = (station.root() / "etc/lamp.conf").string();
  fs::permissions(path, fs::perms(0600));
  const bool chowned = ::chown(path.c_str(), 12345, 54321) == 0;
  const auto facts = [&] {
    struct ::stat info {};
    ::stat(path.c_str(), &info);
    return std::to_string(info.st_mode & 07777U) + " " + (chowned ? std::to_string(info.st_uid) : "") + " " +
           run({"getfattr", "--only-values", "-n", "user.note", path}).out;
  };
  const std::string before = facts();
  station.hambrel({"upgrade", "-y"});
  EXPECT_EQ(conf(), kTwo) << "not edited: replaced";
  EXPECT_EQ(facts(), before);
  station.hambrel({"undo", "2", "-y"});
  edit(kMine);
  const bool noted = run({"setfattr", "-n", "user.note", "-v", "mine", path}).code == 0;
  const std::string marked = facts();
  EXPECT_TRUE(!noted || marked.ends_with(" mine")) << marked;
  station.hambrel({"upgrade", "-y", "--configs", "merge"});
  EXPECT_EQ(conf(), kBoth);
  EXPECT_EQ(facts(), marked);
  edit(kClash);
  station.hambrel({"remove", "--purge", "lamp", "-y"});
  station.hambrel({"rollback", "4", "-y"});
  EXPECT_EQ(conf(), kClash);
  EXPECT_EQ(facts(), marked);
}

TEST_F(Configs, APurgeIsForWhatWasRemovedLongAgoToo) {
  two_versions();
  pack("1-1", {{"etc/horn.d/horn.conf", "h\n"}}, "horn");
  station.publish();
  station.hambrel({"refresh"});
  install("horn");
  edit(kMine);
  edit("mine\n", "horn.d/horn.conf");
  const auto before = station.files();
  EXPECT_THAT(station.without_root(station.hambrel({"remove", "horn", "-y"}).out),
              HasSubstr("`hambrel remove --purge horn` removes it, too"));
  EXPECT_EQ(states(), "edited /etc/lamp.conf, leftover /etc/horn.d/horn.conf");
  EXPECT_THAT(station.hambrel({"list", "leftover"}).out, HasSubstr("horn  1-1  1 file"));
  EXPECT_EQ(station.hambrel({"configs", "settle", "/etc/horn.d/horn.conf", "-y", "--configs", "take"}).code, 3);
  const Ran both = station.hambrel({"remove", "--purge", "horn", "lamp", "-y"});
  ASSERT_EQ(both.code, 0) << both.err;
  EXPECT_FALSE(fs::exists(station.root() / "etc/horn.d")) << "the directory is empty, so it goes";
  EXPECT_FALSE(fs::exists(station.root() / "etc/lamp.conf"));
  EXPECT_EQ(states(), "");
  ASSERT_EQ(station.hambrel({"undo", "4", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"undo", "3", "-y"}).code, 0);
  EXPECT_EQ(station.files(), before) << "with directories' times";
  station.hambrel({"remove", "horn", "-y"});
  ASSERT_EQ(station.hambrel({"remove", "--purge", "horn", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"remove", "--purge", "horn", "-y"}).code, 3) << "nothing is left of it";
  ASSERT_EQ(station.hambrel({"rollback", "2", "-y"}).code, 0);
  EXPECT_EQ(conf("horn.d/horn.conf"), "mine\n") << "back past the removal and the purge";
}

TEST_F(Configs, ALeftoverMeetsItsPackageAgainByWhatItBeganFrom) {
  two_versions();
  edit(kMine);
  station.hambrel({"remove", "lamp", "-y"});
  install("lamp=1");
  EXPECT_EQ(states(), "edited /etc/lamp.conf") << "the default is what it was: nothing to settle";
  station.hambrel({"remove", "lamp", "-y"});
  ASSERT_EQ(station.hambrel({"install", "lamp=2", "-y", "--configs", "merge"}).code, 0);
  EXPECT_EQ(conf(), kBoth);
}

TEST_F(Configs, WhatAFileBeganFromIsKeptWhereverItsPackageComesFrom) {
  const auto pristine = [&](const std::string& content) {
    return fs::exists(station.root() / "var/lib/hambrel/pristine" / sha256(content).hex());
  };
  two_versions();
  station.hambrel({"upgrade", "-y"});
  for (const std::string& content : {kOne, kTwo}) EXPECT_TRUE(pristine(content));
  fs::remove_all(station.root() / "var/lib/hambrel/pristine");  // as of a program that did not keep it
  station.hambrel({"rollback", "1", "-y"});
  station.hambrel({"remove", "lamp", "-y"});
  station.hambrel({"install", "lamp=1", "-y"});
  EXPECT_TRUE(pristine(kOne));
  fs::remove_all(station.root() / "var/lib/hambrel/pristine");
  station.hambrel({"upgrade", "-y"});
  station.hambrel({"tidy", "attic", "--keep", "1", "-y"});
  station.hambrel({"rollback", "1", "-y"});
  EXPECT_EQ(conf(), kOne);
  EXPECT_TRUE(pristine(kOne)) << "out of the cache or the attic";
  station.pack("note", "1-1", kConfig, {{"etc/note.conf", "note\n"}});
  station.publish();
  station.hambrel({"refresh"});
  edit("note\n", "note.conf");
  install("note");  // nothing has to be moved
  EXPECT_TRUE(pristine("note\n"));
}

TEST_F(Configs, AHundredFilesMergeAsTheLibraryDoes) {
  std::mt19937 random(11);
  std::map<std::string, std::string> one, two, mine;
  const auto text = [](const std::vector<std::string>& lines) {
    std::string all;
    for (const std::string& line : lines) all += line + "\n";
    return all;
  };
  for (int i = 0; i < 100; ++i) {
    std::vector<std::string> lines;
    for (std::size_t k = 0; k < 6 + random() % 10; ++k) lines.push_back("key" + std::to_string(k) + " = 1");
    auto edited = lines, fresh = lines;
    edited[random() % edited.size()] += "0";
    if (random() % 3 == 0) edited.push_back("mine = 1");
    fresh[random() % fresh.size()] += "5";
    if (random() % 3 == 0) fresh.insert(fresh.begin(), "# new");
    const std::string path = "etc/" + std::to_string(i);
    one[path] = text(lines);
    two[path] = text(fresh);
    mine[path] = text(edited);
  }
  pack("1-1", one);
  pack("2-1", two);
  station.open();
  install("lamp=1");
  for (const auto& [path, content] : mine) write_file(station.root() / path, content);
  ASSERT_EQ(station.hambrel({"upgrade", "-y", "--configs", "merge"}).code, 0);
  int clean = 0;
  for (const auto& [path, content] : mine) {
    const Merged merged = merge(one[path], content, two[path]);
    clean += merged.clean ? 1 : 0;
    ASSERT_EQ(read_file(station.root() / path), merged.clean ? merged.text : content) << path;
    ASSERT_EQ(fs::exists(station.root() / "var/lib/hambrel/configs/waiting" / path), !merged.clean) << path;
  }
  std::printf("%d of 100 merged\n", clean);
  EXPECT_GT(clean, 40);
  EXPECT_LT(clean, 100);
}

TEST_F(Configs, TheConsentShowsWhatFilesWillSayForWhoAsks) {
  two_versions();
  edit(kMine);
  const Ran upgrade = station.on_terminal("d|yes", {"upgrade", "--configs", "merge"});
  EXPECT_EQ(upgrade.code, 0) << upgrade.out;
  EXPECT_THAT(upgrade.out, HasSubstr("Continue? (yes, no, diff or only download)"));
  EXPECT_THAT(upgrade.out, ContainsRegex("/etc/lamp.conf\n(.*\n)* *- every = 60\n *\\+ every = 30\n"));
  EXPECT_EQ(conf(), kBoth);
  const Ran undo = station.on_terminal("diff|no", {"undo", "2"});
  EXPECT_THAT(undo.out, ContainsRegex("/etc/lamp.conf\n(.*\n)* *- every = 30\n *\\+ every = 60\n"));
}

TEST_F(Configs, WhatTheSettingsDecideStandsWhileTheRestIsAskedAbout) {
  two_versions();
  edit(kMine);
  edit("mine\n", "other.conf");
  write_file(station.root() / "etc/hambrel/hambrel.toml",
             "[[configs]]\npaths = [\"/etc/other.*\"]\nchoice = \"take\"\n");
  const Ran ran = station.on_terminal("keep|yes", {"upgrade"});
  EXPECT_EQ(ran.code, 0) << ran.out;
  EXPECT_EQ(conf(), kMine);
  EXPECT_EQ(conf("other.conf"), "b\n");
}

}  // namespace hambrel::test
