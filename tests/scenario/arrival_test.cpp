// Packages that are staged while they still come, and what is left where they do not come whole.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <signal.h>

#include <fstream>
#include <random>
#include <thread>

#include "scenario/slow_server.h"
#include "scenario/station.h"

namespace hambrel::test {

namespace {

using testing::ContainsRegex;
using testing::Each;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::MatchesRegex;
using testing::Not;

class Arrival : public testing::Test {
 protected:
  void open(SlowServer& server) const {
    station.publish();
    station.hambrel({"repo", "add", "web", server.url(), "--unsigned"});
    station.hambrel({"refresh"});
    server.asked();
  }
  /// Has a file been made in the stage within half a minute?
  bool something_is_staged() const {
    for (int i = 0; i < 3000; ++i) {
      std::error_code gone;
      for (fs::recursive_directory_iterator at(station.root() / "var/lib/hambrel/stage", gone), end; at != end;
           at.increment(gone))
        if (at->is_regular_file(gone)) return true;
      std::this_thread::sleep_for(std::chrono::milliseconds(10));
    }
    return false;
  }
  std::vector<fs::path> in_cache(const std::string& name) const {
    std::vector<fs::path> files;
    const fs::path directory = station.root() / "var/cache/hambrel/packages" / name;
    if (fs::exists(directory))
      for (const auto& one : fs::directory_iterator(directory)) files.push_back(one.path());
    return files;
  }

  Station station;
};

}  // namespace

TEST_F(Arrival, TheTerminalSaysHowFarItIsAlsoWhileNothingComes) {
  station.pack("buoy", "1-1", "", tiles("buoy", 4));
  SlowServer server(station.repository());
  open(server);
  server.gate = [](auto&, std::size_t offset) {
    const bool pause = offset / (64 << 10) == 20;
    std::this_thread::sleep_for(std::chrono::milliseconds(pause ? 2000 : 20));
    return true;
  };
  const Ran ran = station.on_terminal("", {"install", "buoy", "-y"});
  EXPECT_EQ(ran.code, 0) << ran.out;
  EXPECT_THAT(ran.out, HasSubstr("fetching and staging  "));
  EXPECT_THAT(ran.out, HasSubstr(" of 4.0 MiB"));
  EXPECT_THAT(ran.out, HasSubstr("/usr/share/buoy/"));
  std::map<std::string, int> drawn;  // each text, how often
  for (std::size_t at = ran.out.find("\r\033[K"); at != std::string::npos; at = ran.out.find("\r\033[K", at + 1)) {
    const std::string text = ran.out.substr(at + 4, ran.out.find('\r', at + 1) - at - 4);
    ++drawn[text.substr(0, text.find(" of "))];
  }
  EXPECT_GT(std::max_element(drawn.begin(), drawn.end(), [](auto& a, auto& b) { return a.second < b.second; })->second,
            2)
      << "it is drawn while nothing comes";
  EXPECT_THAT(station.on_terminal("", {"remove", "buoy", "-y"}).out, Not(HasSubstr("The last")));
  EXPECT_THAT(station.on_terminal("no", {"install", "buoy"}).out,
              ContainsRegex("The last install took [2-9][0-9]* s\\."));
}

TEST_F(Arrival, WhoOnlyLooksAtAUrlFetchesNoMoreThanItsTableOfContents) {
  station.pack("buoy", "1-1", "", tiles("buoy", 2));
  SlowServer server(station.repository());
  open(server);
  const std::string url = server.url() + "/packages/buoy/1-1.independent.hambrel";
  const Ran plan = station.hambrel({"install", url, "-n"});
  EXPECT_EQ(plan.code, 0) << plan.err;
  EXPECT_THAT(plan.out, HasSubstr("Fetches 2.0 MiB in 1 file from URL"));
  const std::vector<std::string> asked = server.asked();
  EXPECT_THAT(asked, Each(MatchesRegex("bytes=[0-9]+-[0-9]+"))) << "never for the whole file";
  EXPECT_LE(asked.size(), 6U);
  EXPECT_THAT(station.hambrel({"describe", url}).out, HasSubstr("buoy"));
  EXPECT_THAT(server.asked(), Each(MatchesRegex("bytes=[0-9]+-[0-9]+")));
  EXPECT_EQ(station.hambrel({"install", url, "-y", "--allow-unsigned"}).code, 0);
  EXPECT_THAT(server.asked(), ElementsAre(""));
}

TEST_F(Arrival, ProgressAsEventsIsALineOfJsonEach) {
  station.pack("buoy", "1-1", "", tiles("buoy", 2));
  SlowServer server(station.repository());
  open(server);
  const Ran ran = station.hambrel({"install", "buoy", "-y", "--quiet", "--progress", "json"});
  EXPECT_EQ(ran.code, 0);
  std::vector<std::string> begun, ended;
  std::istringstream lines(ran.err);
  for (std::string line; std::getline(lines, line);) {
    const auto event = nlohmann::json::parse(line);
    if (event["event"] == "begin") begun.push_back(event["activity"]);
    if (event["event"] == "end") ended.push_back(event["activity"]);
  }
  EXPECT_EQ(begun, ended);
  EXPECT_THAT(begun, testing::IsSupersetOf(
                         {"planning", "fetching and staging", "writing to the disk", "switching", "recording"}));
}

TEST_F(Arrival, EventsAreJsonWhateverWasTyped) {
  const Ran ran = station.hambrel({"install", "-n", "--progress", "json", "http://127.0.0.1:1/\xFF.hambrel"});
  EXPECT_EQ(ran.code, 1);
  const auto event = nlohmann::json::parse(ran.err.substr(0, ran.err.find('\n')));
  EXPECT_EQ(event["event"], "begin");
  EXPECT_THAT(ran.err, HasSubstr("Failed to connect"));
}

TEST_F(Arrival, WhatHasComeIsStagedWhileTheRestStillComes) {
  station.pack("anchor", "1-1", "", tiles("anchor", 1));
  station.pack("buoy", "1-1", "", tiles("buoy", 12));
  SlowServer server(station.repository());
  open(server);
  std::atomic<int> waited = 0;
  // nothing of anchor comes before something of buoy is staged, whose end does not come before that either
  server.gate = [&](const std::string& path, std::size_t offset) {
    const bool table = path.find("anchor") != std::string::npos ? offset > kMiB - 1000 : offset > 12 * kMiB - 10'000;
    if (table || (path.find("buoy") != std::string::npos && offset < 8 * kMiB)) return true;
    ++waited;
    return something_is_staged();
  };
  const Ran ran = station.hambrel({"install", "anchor", "buoy", "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_GE(waited, 2);
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  EXPECT_EQ(in_cache("buoy"), std::vector{station.root() / "var/cache/hambrel/packages/buoy/1-1.independent.hambrel"});
  EXPECT_EQ(station.json({"ledger", "show", "1"})["downloaded"],
            fs::file_size(station.repository() / "packages/anchor/1-1.independent.hambrel") +
                fs::file_size(station.repository() / "packages/buoy/1-1.independent.hambrel"));
}

TEST_F(Arrival, CtrlCLeavesNothingButWhatCameAndTheNextTryGoesOnFromThere) {
  station.pack("buoy", "1-1", "", tiles("buoy", 12));
  SlowServer server(station.repository());
  open(server);
  const auto before = station.files();
  const fs::path process = station.path("process");
  std::atomic<bool> over = false;
  server.gate = [&](const std::string&, std::size_t offset) {
    if (offset < 8 * kMiB || offset > 12 * kMiB - 10'000) return true;
    if (something_is_staged()) ::kill(std::stoi(read_file(process)), SIGINT);
    while (!over) std::this_thread::sleep_for(std::chrono::milliseconds(10));
    return false;
  };
  const Ran stopped = run({"/bin/sh", "-c",
                           "echo $$ >" + process.string() + "; exec " HAMBREL_PROGRAM " --root " +
                               station.root().string() + " install buoy -y"});
  over = true;
  EXPECT_EQ(stopped.code, 4);
  EXPECT_THAT(stopped.err, HasSubstr("interrupted; nothing was changed"));
  EXPECT_THAT(stopped.err, HasSubstr("the next try continues from there"));
  EXPECT_EQ(station.files(), before);
  EXPECT_TRUE(fs::is_empty(station.root() / "var/lib/hambrel/stage"));
  ASSERT_EQ(in_cache("buoy").size(), 1U);
  const auto came = fs::file_size(in_cache("buoy")[0]);
  EXPECT_GT(came, 6 * kMiB);
  server.gate = [](auto&, auto) { return true; };
  server.asked();
  EXPECT_EQ(station.json({"install", "buoy", "-n"})["plan"]["download"],
            fs::file_size(station.repository() / "packages/buoy/1-1.independent.hambrel") - came);
  const Ran ran = station.hambrel({"install", "buoy", "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_THAT(server.asked(), testing::Contains(testing::StartsWith("bytes=" + std::to_string(came) + "-")));
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Arrival, WhereLittleIsStagedTheRestIsAwaitedAndCtrlCIsHeardThen) {
  auto files = tiles("buoy", 12);
  station.pack("buoy", "1-1", "", files);
  SlowServer server(station.repository());
  open(server);
  EXPECT_EQ(station.hambrel({"install", "buoy", "-y"}).code, 0);
  // most of it, so that all of it is fetched; the end of the file is not unpacked
  for (auto& [path, content] : files)
    if (path < "usr/share/buoy/8") content[0] ^= 1;
  station.pack("buoy", "2-1", "", files);
  station.publish();
  station.hambrel({"refresh"});
  const auto before = station.files();
  const fs::path process = station.path("process");
  int pieces = 0;
  std::atomic<bool> interrupt = true;
  server.gate = [&](const std::string&, std::size_t offset) {
    if (offset < 10 * kMiB || offset > 12 * kMiB - 10'000) return true;
    if (++pieces == 5 && something_is_staged() && interrupt) ::kill(std::stoi(read_file(process)), SIGINT);
    // a pause in which who waits looks around, then a stream that never pauses as long
    const int pause = pieces < 5 ? 150 : 50;
    std::this_thread::sleep_for(std::chrono::milliseconds(interrupt ? pause : 5));
    return true;
  };
  const auto upgrade = [&] {
    return run({"/bin/sh", "-c",
                "echo $$ >" + process.string() + "; exec " HAMBREL_PROGRAM " --root " + station.root().string() +
                    " upgrade -y"});
  };
  const Ran stopped = upgrade();
  EXPECT_EQ(stopped.code, 4) << stopped.err;
  EXPECT_EQ(station.files(), before);
  EXPECT_THAT(in_cache("buoy"),
              testing::Contains(testing::ResultOf([](auto& path) { return path.extension(); }, ".part")))
      << "it did not wait for the end";
  interrupt = false;
  const Ran ran = upgrade();
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(read_file(station.root() / "usr/share/buoy/0"), files.at("usr/share/buoy/0"));
}

TEST_F(Arrival, AConnectionThatBreaksChangesNothingAndSaysWhatIsKept) {
  station.pack("buoy", "1-1", "", tiles("buoy", 12));
  SlowServer server(station.repository());
  open(server);
  const auto before = station.files();
  server.gate = [&](const std::string&, std::size_t offset) {
    return offset < 8 * kMiB || offset > 12 * kMiB - 10'000 || (something_is_staged(), false);
  };
  const Ran broken = station.hambrel({"install", "buoy", "-y"});
  EXPECT_EQ(broken.code, 1);
  EXPECT_THAT(broken.err, HasSubstr("what arrived is kept, the next try continues from there"));
  EXPECT_EQ(station.files(), before);
  EXPECT_TRUE(fs::is_empty(station.root() / "var/lib/hambrel/stage"));
  ASSERT_EQ(in_cache("buoy").size(), 1U);
  const fs::path rest = in_cache("buoy")[0];
  // where it breaks only once, nobody notices
  fs::remove(rest);
  std::atomic<int> breaks = 0;
  server.asked();
  server.gate = [&](const std::string&, std::size_t offset) { return offset != 8 * kMiB || ++breaks != 1; };
  const Ran whole = station.hambrel({"install", "buoy", "-y"});
  EXPECT_EQ(whole.code, 0) << whole.err;
  EXPECT_EQ(breaks, 2);
  EXPECT_THAT(server.asked(),
              testing::Contains("bytes=8388608-" + std::to_string(fs::file_size(in_cache("buoy")[0]) - 1)));
  EXPECT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0);
  fs::rename(in_cache("buoy")[0], rest);
  // what is kept does not fit: that is seen, and it is fetched anew
  std::string content = read_file(rest);
  content[5 * kMiB] ^= 1;
  write_file(rest, content);
  server.gate = [](auto&, auto) { return true; };
  const Ran ran = station.hambrel({"install", "buoy", "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

TEST_F(Arrival, WhatIsNotThePackageIsFoundBeforeAnythingIsChanged) {
  station.pack("buoy", "1-1", "", tiles("buoy", 12));
  station.publish();
  const fs::path file = station.repository() / "packages/buoy/1-1.independent.hambrel";
  const std::string good = read_file(file);
  SlowServer server(station.repository());
  open(server);
  const auto before = station.files();
  for (const std::size_t at : {11 * kMiB, good.size() - 4}) {  // in a frame; where only the whole digest tells
    std::string bad = good;
    bad[at] ^= 1;
    write_file(file, bad);
    const Ran ran = station.hambrel({"install", "buoy", "-y"});
    EXPECT_EQ(ran.code, 5) << at;
    EXPECT_THAT(ran.err, HasSubstr(server.url() + "/packages/buoy/1-1.independent.hambrel: "));
    EXPECT_THAT(ran.err, HasSubstr("the repository or its mirror may have been tampered with"));
    EXPECT_EQ(station.files(), before);
    EXPECT_TRUE(in_cache("buoy").empty());
  }
}

TEST_F(Arrival, ThereMayBeMorePackagesThanFilesThatMayBeOpen) {
  std::string names, files;
  std::mt19937 chance(7);
  for (int i = 0; i < 60; ++i) {
    const std::string name = "p" + std::to_string(i);
    // what comes faster than its digest is worked out
    std::string content;
    for (int k = 0; k < 60'000; ++k) content += std::to_string(chance());
    files += " " + station.pack(name, "1-1", "", {{"usr/share/" + name, content}});
    names += " " + name;
  }
  SlowServer server(station.repository());
  open(server);
  const auto with_few = [&](const std::string& words) {
    return run({"/bin/sh", "-c", "ulimit -n 40; exec " HAMBREL_PROGRAM " --root " + station.root().string() + words});
  };
  const Ran fetched = with_few(" install -y" + names);
  EXPECT_EQ(fetched.code, 0) << fetched.err;
  EXPECT_EQ(with_few(" undo 1 -y").code, 0);
  const Ran cached = with_few(" install -y" + names);
  EXPECT_EQ(cached.code, 0) << cached.err;
  EXPECT_EQ(with_few(" undo 3 -y").code, 0);
  fs::remove_all(station.root() / "var/cache/hambrel/packages");
  const Ran given = with_few(" install -y" + files);
  EXPECT_EQ(given.code, 0) << given.err;
  EXPECT_EQ(station.hambrel({"verify"}).code, 0);
}

}  // namespace hambrel::test
