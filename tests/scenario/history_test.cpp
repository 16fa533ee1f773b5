// Any sequence of installs, upgrades, removals, undos and all other ways of going back leaves disk, database and ledger
// in agreement. The checker is the test's own: it reads the disk, and the database with SQL, and knows the packages it
// made.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sqlite3.h>

#include <random>
#include <set>
#include <sstream>

#include "base/digest.h"
#include "scenario/station.h"

namespace hambrel::test {

namespace {

using Files = std::map<std::string, std::string>;  // path -> content

class History : public testing::Test {
 protected:
  void SetUp() override {
    make("lib", "1-1", "", {{"usr/lib/lib", "1"}, {"usr/share/lib/data", "1"}, {"etc/lib.conf", conf("a", "x")}});
    make("lib", "2-1", "", {{"usr/lib/lib", "2"}, {"usr/share/lib/data/split", "2"}, {"etc/lib.conf", conf("b", "x")}});
    make("lib", "3-1", "", {{"usr/lib/lib3", "3"}, {"usr/share/lib/data/split", "2"}});
    make("desk", "1-1", "[relations]\nrequires = [\"lib < 3\"]\n",
         {{"usr/bin/desk", "1"}, {"usr/share/desk/a/b/c", "deep"}});
    make("desk", "2-1", "[relations]\nrequires = [\"lib >= 2\"]\n",
         {{"usr/bin/desk", "2"}, {"usr/share/desk/a/b", "flat"}});
    make("horn", "1-1", "[relations]\nrecommends = [\"lib\"]\n",
         {{"usr/bin/horn", "1"}, {"usr/share/lib/horn", "shared directory"}});
    make("light", "1-1", "[relations]\nconflicts = [\"horn\"]\nprovides = [\"lamp\"]\n", {{"usr/bin/light", "1"}});
    make("light", "2-1", "[relations]\nreplaces = [\"horn\"]\n", {{"usr/bin/light", "2"}, {"usr/bin/horn", "light's"}});
    station.open();
    write_file(station.root() / "usr/bin/foreign", "mine");
    write_file(station.root() / "usr/share/lib/notes", "mine");
  }

  /// Two lines that merge: one for the package to change, one for the administrator.
  static std::string conf(const std::string& first, const std::string& second) {
    return first + "\n\n" + second + "\n\nend\n";
  }

  void make(const std::string& name, const std::string& version, const std::string& toml, const Files& files) {
    const bool config = files.contains("etc/lib.conf");
    station.pack(name, version, toml + (config ? "[config]\nfiles = [\"etc/**\"]\n" : ""), files);
    made_[name + " " + version] = files;
  }

  void edit(const std::string& line) {
    std::string content =
        fs::exists(station.root() / "etc/lib.conf") ? read_file(station.root() / "etc/lib.conf") : "a";
    write_file(station.root() / "etc/lib.conf", conf(content.substr(0, 1), line));
    edits_.insert(line);
    edited_ = true;
  }

  /// "name version" of what the database says is installed.
  std::set<std::string> in_database() const {
    std::set<std::string> result;
    sqlite3* database = nullptr;
    sqlite3_open_v2((station.root() / "var/lib/hambrel/state.sqlite").c_str(), &database, SQLITE_OPEN_READONLY,
                    nullptr);
    const auto collect = [](void* to, int, char** values, char**) {
      static_cast<std::set<std::string>*>(to)->insert(std::string(values[0]) + " " + values[1]);
      return 0;
    };
    sqlite3_exec(database, "SELECT name, version FROM packages WHERE state = 'installed'", collect, &result, nullptr);
    std::set<std::string> journal;
    sqlite3_exec(database, "SELECT txn, kind FROM journal", collect, &journal, nullptr);
    EXPECT_TRUE(journal.empty());
    sqlite3_close(database);
    return result;
  }

  int last_in_ledger() const {
    int last = 0;
    std::istringstream lines(station.hambrel({"ledger", "--most", "1", "--json"}).out);
    for (std::string line; std::getline(lines, line);) last = nlohmann::json::parse(line).value("id", 0);
    return last;
  }

  void check(const std::string& after) {
    Files expected{{"usr/bin/foreign", "mine"}, {"usr/share/lib/notes", "mine"}};
    for (const std::string& title : in_database())
      for (const auto& [path, content] : made_.at(title)) expected[path] = content;
    Files found;
    for (const auto& [path, facts] : tree(station.root(), {"var/lib/hambrel", "var/cache", "etc/hambrel"}))
      if (fs::is_regular_file(fs::symlink_status(station.root() / path)))
        found[path] = read_file(station.root() / path);
    if (edited_ && found.contains("etc/lib.conf")) {
      expected["etc/lib.conf"] = found["etc/lib.conf"];
      std::string second = found["etc/lib.conf"].substr(3);
      second.resize(second.find('\n'));
      ASSERT_TRUE(second == "x" || edits_.contains(second)) << after << found["etc/lib.conf"];
    }
    if (edited_ && !found.contains("etc/lib.conf")) expected.erase("etc/lib.conf");
    ASSERT_EQ(found, expected) << after;
    const fs::path waiting = station.root() / "var/lib/hambrel/configs/waiting/etc/lib.conf";
    if (fs::exists(waiting)) {  // always of the version that is installed, or on the shelf
      std::set<std::string> contents;
      for (const std::string& title : in_database())
        if (made_.at(title).contains("etc/lib.conf")) contents.insert(made_.at(title).at("etc/lib.conf"));
      ASSERT_TRUE(contents.contains(read_file(waiting))) << after << read_file(waiting);
    }
    const fs::path stage = station.root() / "var/lib/hambrel/stage";
    if (fs::exists(stage)) {
      for (const auto& one : fs::directory_iterator(stage))
        ASSERT_TRUE(one.path().filename().string().starts_with("prepared-")) << after;
    }
  }

  Station station;
  std::map<std::string, Files> made_;
  bool edited_ = false;
  std::set<std::string> edits_;
};

}  // namespace

TEST_F(History, AnySequenceLeavesDiskAndDatabaseInAgreement) {
  std::mt19937 random(20261123);
  const std::vector<std::vector<std::string>> commands{{"install", "desk"},
                                                       {"install", "desk=1"},
                                                       {"install", "lib=1"},
                                                       {"install", "lib=2"},
                                                       {"install", "lib"},
                                                       {"install", "horn"},
                                                       {"install", "light=1"},
                                                       {"install", "light"},
                                                       {"remove", "desk"},
                                                       {"remove", "lib"},
                                                       {"remove", "--unneeded", "horn"},
                                                       {"remove", "light"},
                                                       {"upgrade"},
                                                       {"upgrade"}};
  int done = 0, refused = 0, undone = 0;
  for (int round = 0; round < 120; ++round) {
    std::vector<std::string> command = commands[random() % commands.size()];
    const bool undo = random() % 4 == 0;
    if (undo) command = {"undo", std::to_string(1 + random() % static_cast<unsigned>(done + 1))};
    if (round == 60) {
      edit("edited");  // from here on the configuration is the administrator's
    }
    command.push_back("-y");
    const auto before = station.files();
    const Ran ran = station.hambrel(command);
    ASSERT_TRUE(ran.code == 0 || ran.code == 3 || ran.code == 1) << command[0] << " " << command[1] << ": " << ran.err;
    ASSERT_EQ(ran.err.find("state database"), std::string::npos) << ran.err;
    if (ran.code != 0) {
      ++refused;
      ASSERT_EQ(station.files(), before) << "refused, so nothing may have changed: " << ran.err;
    } else if (ran.out.find("Done as") != std::string::npos) {
      ++done;
      undone += undo ? 1 : 0;
    }
    check(command[0] + " " + command[1]);
  }
  std::printf("%d done (%d of them undo), %d refused\n", done, undone, refused);
  EXPECT_GT(done, 40);
  EXPECT_GT(undone, 5);
  EXPECT_GT(refused, 5);
}

/// Going back, whatever is held meanwhile.
std::vector<std::string> held_or_not(std::vector<std::string> command) {
  for (const char* const name : {"lib", "desk", "horn", "light"}) command.insert(command.end(), {"--release", name});
  return command;
}

/// Every way of going back among the changes, with files that are edited and attics that are given up in between.
TEST_F(History, GoingBackToAnyPointGivesTheListingOfThatPoint) {
  const char* const seed = std::getenv("HAMBREL_TEST_SEED");
  std::mt19937 random(seed == nullptr ? 3U : static_cast<unsigned>(std::atoi(seed)));
  const std::vector<std::vector<std::string>> commands{{"install", "desk=1"},
                                                       {"install", "lib=2"},
                                                       {"install", "lib"},
                                                       {"install", "horn"},
                                                       {"install", "light"},
                                                       {"remove", "desk"},
                                                       {"remove", "lib"},
                                                       {"remove", "light"},
                                                       {"upgrade"},
                                                       {"downgrade", "lib"},
                                                       {"shelve", "horn"},
                                                       {"shelve", "desk"},
                                                       {"unshelve", "horn"},
                                                       {"unshelve", "desk"},
                                                       {"undo"},
                                                       {"undo"},
                                                       {"redo"},
                                                       {"rollback"},
                                                       {"rollback"},
                                                       {"rollback calm"},
                                                       {"upgrade", "-p"},
                                                       {"activate"},
                                                       {"remove", "lib", "-p"},
                                                       {"activate", "--discard"},
                                                       {"tidy", "attic"},
                                                       {"checkpoint"},
                                                       {"edit"},
                                                       {"hold", "lib"},
                                                       {"release", "lib"},
                                                       {"repair"},
                                                       {"upgrade", "--configs", "merge"},
                                                       {"upgrade", "--configs", "take"},
                                                       {"install", "lib=2", "--configs", "keep"},
                                                       {"install", "lib=1", "--configs", "merge"},
                                                       {"configs", "settle", "--configs", "keep"},
                                                       {"configs", "settle", "--configs", "take"},
                                                       {"configs", "settle", "--configs", "merge"},
                                                       {"remove", "--purge", "lib"},
                                                       {"want", "lib"},
                                                       {"unwant", "lib"},
                                                       {"tidy", "unneeded"},
                                                       {"tidy", "configs"},
                                                       {"tidy", "cache", "--all"}};
  struct Moment {
    std::set<std::string> packages;
    Files files;
  };
  std::map<int, Moment> moments;
  std::optional<Moment> calm;
  const auto now = [&] {
    Moment moment{in_database(), {}};
    for (const std::string path : {"usr/bin", "usr/lib", "usr/share", "etc/lib.conf"}) {
      if (fs::is_regular_file(station.root() / path)) moment.files[path] = read_file(station.root() / path);
      if (!fs::is_directory(station.root() / path)) continue;
      for (const auto& one : fs::recursive_directory_iterator(station.root() / path))
        if (one.is_regular_file()) moment.files[one.path().string()] = read_file(one.path());
    }
    return moment;
  };
  std::map<std::string, int> done;
  int last = 0, refused = 0, edited_at = 0, there_and_back = 0;
  for (int round = 0; round < 300; ++round) {
    std::vector<std::string> command = commands[random() % commands.size()];
    const std::string what = command[0];
    const int back = static_cast<int>(random() % (what == "rollback" ? static_cast<unsigned>(last + 1) : 3U));
    const int some = std::max(1, last - back);
    if (what == "undo" || what == "redo" || what == "rollback") command.push_back(std::to_string(some));
    if (what == "rollback calm") command = {"rollback", "calm"};
    if (command[0] == "undo" || command[0] == "redo" || command[0] == "rollback") command = held_or_not(command);
    if (what == "tidy" && command[1] == "attic") command.insert(command.end(), {"--keep", "6"});
    if (command.back() == "-p") command.back() = "--prepare";
    if (what == "edit") {
      if (!fs::exists(station.root() / "etc/lib.conf")) continue;
      edit("edited in round " + std::to_string(round));
      edited_at = last;
      continue;
    }
    if (what == "checkpoint") {
      station.hambrel({"checkpoint", "drop", "calm", "-y"});
      ASSERT_EQ(station.hambrel({"checkpoint", "make", "calm"}).code, 0);
      calm = now();
      continue;
    }
    if (what != "activate") command.push_back("-y");
    const auto before = station.files();
    const Ran ran = station.hambrel(command);
    const std::string told =
        fmt::format("round {}: {} {}: {}{}", round, command[0], command.size() > 1 ? command[1] : "", ran.out, ran.err);
    ASSERT_TRUE(ran.code == 0 || ran.code == 1 || ran.code == 3) << told;
    ASSERT_EQ(ran.err.find("state database"), std::string::npos) << told;
    const int newest = last_in_ledger();
    if (ran.code != 0) {
      ++refused;
      ASSERT_EQ(station.files(), before) << told;
    } else {
      ++done[what];
      if (what == "rollback") {
        ASSERT_EQ(now().packages, moments.at(some).packages) << told;
        Files then = moments.at(some).files, here = now().files;
        if (edited_at >= some || ran.out.find("is not known any more") != std::string::npos ||
            ran.out.find("can't be put back") != std::string::npos) {
          then.erase("etc/lib.conf");  // it stays as it was edited since
          here.erase("etc/lib.conf");
        }
        ASSERT_EQ(here, then) << told;
      } else if (what == "rollback calm") {
        ASSERT_EQ(now().packages, calm->packages) << told;
        Files then = calm->files, here = now().files;  // a leftover that came since stays
        if (!then.contains("etc/lib.conf")) here.erase("etc/lib.conf");
        ASSERT_EQ(here, then) << told;
      }
    }
    for (int id = last + 1; id <= newest; ++id) moments[id] = now();
    if (newest == last + 1 && random() % 4 == 0) {  // there and back at once: every file as it was, times included
      const auto after = station.files();
      const Ran back_again = station.hambrel(held_or_not({"undo", std::to_string(newest), "-y"}));
      if (back_again.code == 0) {
        ++there_and_back;
        moments[newest + 1] = now();
        ASSERT_EQ(without_link_counts(station.files()), without_link_counts(before)) << told << back_again.out;
        ASSERT_EQ(station.hambrel(held_or_not({"redo", std::to_string(newest), "-y"})).code, 0) << told;
        ASSERT_EQ(without_link_counts(station.files()), without_link_counts(after)) << told;
        moments[newest + 2] = now();
      }
    }
    last = std::max(last, last_in_ledger());
    ASSERT_EQ(station.hambrel({"verify", "-q"}).code, 0) << told << station.hambrel({"verify"}).out;
    check(told);
  }
  for (const auto& [what, count] : done) std::printf("%s %d, ", what.c_str(), count);
  std::printf("%d refused, %d there and back\n", refused, there_and_back);
  if (seed != nullptr) return;  // others may miss one
  for (const char* const what :
       {"undo", "redo", "rollback", "rollback calm", "shelve", "unshelve", "activate", "tidy", "configs"})
    EXPECT_GT(done[what], 0) << what;
}

TEST_F(History, UndoingEverythingInReverseIsTheStart) {
  const auto start = tree(station.root(), {"var/lib/hambrel", "var/cache", "etc/hambrel"});
  std::vector<std::map<std::string, std::string>> states{start};
  for (const std::vector<std::string>& command :
       std::vector<std::vector<std::string>>{{"install", "desk=1", "lib=1", "-y"},
                                             {"install", "horn", "-y"},
                                             {"upgrade", "-y"},
                                             {"remove", "light", "-y"},
                                             {"remove", "desk", "-y"}}) {
    ASSERT_EQ(station.hambrel(command).code, 0) << command[0] << command[1];
    states.push_back(tree(station.root(), {"var/lib/hambrel", "var/cache", "etc/hambrel"}));
  }
  for (int id = static_cast<int>(states.size()) - 1; id > 0; --id) {
    const Ran ran = station.hambrel({"undo", std::to_string(id), "-y"});
    ASSERT_EQ(ran.code, 0) << ran.err;
    ASSERT_EQ(tree(station.root(), {"var/lib/hambrel", "var/cache", "etc/hambrel"}),
              states[static_cast<std::size_t>(id) - 1])
        << "undo " << id;
  }
}

}  // namespace hambrel::test
