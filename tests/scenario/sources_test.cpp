// Repositories as administrators know them: files, mirrors, what servers ask for.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>

#include <thread>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;
using testing::Not;

namespace {

/// Serves a directory; with a password only to those who know it.
class Shop {
 public:
  explicit Shop(const fs::path& directory, const std::string& login = "") {
    server_.Get(".*", [this, directory, login](const httplib::Request& asked, httplib::Response& answer) {
      ++asked_;
      if (!login.empty() && asked.get_header_value("Authorization") != "Basic " + login) {
        answer.status = 401;
        return answer.set_header("WWW-Authenticate", "Basic realm=\"harbour\"");
      }
      const fs::path file = directory / asked.path.substr(1);
      if (!fs::is_regular_file(file)) return static_cast<void>(answer.status = 404);
      answer.set_content(read_file(file), "application/octet-stream");
    });
    server_.set_keep_alive_max_count(1);
    port_ = server_.bind_to_any_port("127.0.0.1");
    thread_ = std::jthread([this] { server_.listen_after_bind(); });
    while (!server_.is_running()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  ~Shop() { server_.stop(); }
  std::string host() const { return "127.0.0.1:" + std::to_string(port_); }
  std::string url() const { return "http://" + host(); }
  int asked() { return asked_.exchange(0); }

 private:
  httplib::Server server_;
  std::atomic<int> asked_ = 0;
  int port_ = 0;
  std::jthread thread_;
};

class Sources : public testing::Test {
 protected:
  void SetUp() override {
    fs::create_directories(keys);
    for (const char* role : {"root", "targets", "snapshot", "timestamp"})
      ASSERT_EQ(station.hambrel({"key", "new", (keys / (std::string(role) + ".key")).string()}).code, 0);
    station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "l"}});
    publish({"--init"});
    fingerprint = nlohmann::json::parse(publish({"--json"}).out)["fingerprint"];
  }
  Ran publish(std::vector<std::string> more) const {
    more.insert(more.begin(), {"publish", station.repository().string(), "--keys", keys.string()});
    const Ran ran = station.hambrel(more);
    EXPECT_EQ(ran.code, 0) << ran.err;
    return ran;
  }
  std::string file(const std::string& name = "base.toml") const {
    return read_file(station.root() / "etc/hambrel/repos" / name);
  }
  /// Everything that Hambrel keeps, and what it says now, but the file of credentials.
  std::string everything() const {
    std::string all;
    for (const auto& one : fs::recursive_directory_iterator(station.root()))
      if (one.is_regular_file() && one.path().extension() != ".credentials") all += read_file(one.path());
    for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
             {"repo", "list"}, {"repo", "show", "base"}, {"refresh"}, {"ledger"}, {"ledger", "show", "1"}})
      for (const bool json : {false, true}) {
        std::vector<std::string> asked = words;
        if (json) asked.push_back("--json");
        const Ran ran = station.hambrel(asked);
        all += ran.out + ran.err;
      }
    return all;
  }
  Station station;
  const fs::path keys = station.path("keys");
  std::string fingerprint;
};

}  // namespace

TEST_F(Sources, AUrlGivesItsNameAndTheFirstRefreshIsPartOfIt) {
  const std::string url = "file://" + station.repository().string();
  const Ran added = station.hambrel({"repo", "add", url, "--fingerprint", fingerprint});
  EXPECT_EQ(added.code, 0) << added.err;
  EXPECT_THAT(added.out, HasSubstr("Added repository, following stable"));
  EXPECT_THAT(added.out, HasSubstr("index 1, 1 version, verified by root 1"));
  EXPECT_EQ(station.hambrel({"repo", "add", "late", url, "--fingerprint", fingerprint, "--no-refresh"}).code, 0);
  EXPECT_EQ(station.json({"repo", "show", "late"})["index"], 0);
  // where nothing can be fetched it is there all the same, and that is said
  fs::rename(station.repository() / "index", station.repository() / "away");
  const Ran failed = station.hambrel({"repo", "add", "third", url, "--fingerprint", fingerprint});
  EXPECT_EQ(failed.code, 1);
  EXPECT_THAT(failed.out, HasSubstr("Added third"));
  EXPECT_THAT(failed.out, HasSubstr("unusable: no index"));
}

TEST_F(Sources, AFileThatSomebodyGaveIsCheckedAndKeptAsItIs) {
  const std::string given = station.path("harbour.toml").string();
  const std::string text = "# of the harbour office\nmirrors = [\"file://" + station.path("gone").string() +
                           "\", \"file://" + station.repository().string() + "\"]\nrank = 20\ntimeout = 3\n";
  write_file(given, text + "speed = 3\n");
  const Ran wrong = station.hambrel({"repo", "add", given});
  EXPECT_EQ(wrong.code, 1);
  EXPECT_THAT(wrong.err, HasSubstr("harbour.toml:5"));
  write_file(given, text + "trust = \"none\"\n");
  const Ran careless = station.hambrel({"repo", "add", given});
  EXPECT_EQ(careless.code, 3);
  EXPECT_THAT(careless.err, HasSubstr("--unsigned"));
  write_file(given, text);
  EXPECT_EQ(station.hambrel({"repo", "add", given, "--fingerprint", fingerprint}).code, 0);
  EXPECT_EQ(file("harbour.toml"), text);
  const auto shown = station.json({"repo", "show", "harbour"});
  EXPECT_EQ(shown["rank"], 20);
  EXPECT_EQ(shown["mirrors"].size(), 2U);
  EXPECT_EQ(shown["failures"].size(), 1U);
  EXPECT_EQ(shown["packages"], 1);
}

TEST_F(Sources, MirrorsAreComparedAndChosen) {
  const fs::path old = station.path("old");
  fs::copy(station.repository(), old, fs::copy_options::recursive);
  station.pack("mast", "1-1", "", {{"usr/bin/mast", "m"}});
  publish({});
  const std::string good = "file://" + station.repository().string(), late = "file://" + old.string(),
                    gone = "file://" + station.path("gone").string();
  ASSERT_EQ(station.hambrel({"repo", "add", "base", good, "--fingerprint", fingerprint}).code, 0);
  const auto with = [&](const std::string& text) { write_file(station.root() / "etc/hambrel/repos/base.toml", text); };
  with("# ours\nmirrors = [\n  \"" + late + "\",  # slow\n  \"" + good + "\"]\nspare = [\"" + gone + "\"]\nrank = 7\n");
  const Ran shown = station.hambrel({"repo", "rank", "base"});
  EXPECT_EQ(shown.code, 0) << shown.err;
  EXPECT_THAT(shown.out, HasSubstr("1 update behind"));
  EXPECT_THAT(shown.out, HasSubstr("repo rank base --best 3"));
  EXPECT_EQ(station.hambrel({"repo", "rank", "base", "--best", "2", "--json"}).code, 0);
  EXPECT_EQ(file(), "# ours\nmirrors = [\"" + good + "\"]\nspare = [\"" + late + "\", \"" + gone + "\"]\nrank = 7\n");
  EXPECT_EQ(station.json({"repo", "show", "base"})["packages"], 2) << "what was verified is still of use";
  with("url = \"" + gone + "\"\nspare = [\"" + good + "\"]\n");
  const Ran asked = station.on_terminal("9|1", {"repo", "rank", "base"});
  EXPECT_EQ(asked.code, 0) << asked.out;
  EXPECT_THAT(asked.out, HasSubstr("Numbers from 1 to 1"));
  EXPECT_EQ(file(), "mirrors = [\"" + good + "\"]\nspare = [\"" + gone + "\"]\n");
  with("url = \"" + gone + "\"\n");
  const Ran none = station.hambrel({"repo", "rank", "base", "--best", "1"});
  EXPECT_EQ(none.code, 1);
  EXPECT_THAT(none.err, HasSubstr("no mirror of base is usable right now"));
}

TEST_F(Sources, APasswordIsInItsFileAndNowhereElse) {
  Shop shop(station.repository(), "c2tlcnJ5OnNlYSBAIHNlY3JldA==");  // skerry:sea @ secret
  const Ran added = station.hambrel(
      {"repo", "add", "http://skerry:sea%20%40%20secret@" + shop.host() + "/", "base", "--fingerprint", fingerprint});
  ASSERT_EQ(added.code, 0) << added.err;
  const fs::path secret = station.root() / "etc/hambrel/repos/base.credentials";
  EXPECT_EQ(fs::status(secret).permissions(), fs::perms::owner_read | fs::perms::owner_write);
  EXPECT_THAT(file(), HasSubstr("url = \"" + shop.url() + "\""));
  EXPECT_EQ(station.hambrel({"install", "lamp", "-y"}).code, 0);
  EXPECT_THAT(added.out + added.err + everything(), Not(HasSubstr("secret")));
  // whoever else may read it makes it worthless, and only this repository
  fs::permissions(secret, fs::perms(0640));
  const Ran open = station.hambrel({"repo", "list"});
  EXPECT_THAT(open.out, HasSubstr("can be read by others than its owner"));
  EXPECT_EQ(station.hambrel({"list"}).code, 0);
  fs::permissions(secret, fs::perms(0600));
  write_file(secret, "user = \"skerry\"\npassword = \"ebb\"\n", 0600);
  const Ran wrong = station.hambrel({"refresh"});
  EXPECT_EQ(wrong.code, 1);
  EXPECT_THAT(wrong.err, HasSubstr("check the user and the password in /etc/hambrel/repos/base.credentials"));
  EXPECT_EQ(station.hambrel({"repo", "drop", "base"}).code, 0);
  EXPECT_FALSE(fs::exists(secret));
}

TEST_F(Sources, APasswordInAUrlIsNotInASavedPlan) {
  Shop shop(station.repository());
  const std::string plan = station.path("night.plan").string();
  const Ran saved =
      station.hambrel({"install", "http://ada:s3cret@" + shop.host() + "/packages/lamp/1-1.independent.hambrel",
                       "--allow-unsigned", "--save", plan});
  EXPECT_EQ(saved.code, 0) << saved.err;
  EXPECT_THAT(read_file(plan), HasSubstr("***@"));
  EXPECT_THAT(read_file(plan) + saved.out + saved.err, Not(HasSubstr("s3cret")));
}

TEST_F(Sources, WhereNothingIsNewOneSmallRequestSaysSo) {
  Shop shop(station.repository());
  ASSERT_EQ(station.hambrel({"repo", "add", shop.url(), "base", "--fingerprint", fingerprint}).code, 0);
  shop.asked();
  for (int i = 0; i < 3; ++i) {
    EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
    EXPECT_EQ(shop.asked(), 1) << i;
  }
  station.pack("mast", "1-1", "", {{"usr/bin/mast", "m"}});
  publish({});
  EXPECT_THAT(station.hambrel({"refresh"}).out, HasSubstr("index 2, 2 versions"));
}

TEST_F(Sources, DroppingSaysWhatNobodyOffersThen) {
  const std::string url = "file://" + station.repository().string();
  ASSERT_EQ(station.hambrel({"repo", "add", "base", url, "--fingerprint", fingerprint}).code, 0);
  ASSERT_EQ(station.hambrel({"repo", "add", "copy", url, "--fingerprint", fingerprint}).code, 0);
  ASSERT_EQ(station.hambrel({"install", "lamp", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"repo", "drop", "copy"}).out, "copy: dropped\n");
  EXPECT_EQ(station.hambrel({"repo", "drop", "base"}).out,
            "base: dropped. 1 installed package is no longer available from any repository: lamp\n");
}

TEST_F(Sources, PlansSayThatWhatTheyStandOnIsOldAndCanRefreshFirst) {
  const std::string clock = station.path("clock").string(), day = "1790000000", later = "1790700000";  // 8 days
  const std::map<std::string, std::string> now{{"HAMBREL_TEST_CLOCK", clock}};
  write_file(clock, day);
  station.hambrel({"repo", "add", "base", "file://" + station.repository().string(), "--unsigned"}, now);
  EXPECT_EQ(station.hambrel({"install", "lamp", "-n"}, now).out.find("was last fetched"), std::string::npos);
  write_file(clock, later);
  EXPECT_THAT(station.hambrel({"install", "lamp", "-n"}, now).out,
              HasSubstr("the index of base was last fetched 8 days ago"));
  station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "ll"}});
  publish({});
  const Ran first = station.hambrel({"install", "lamp", "-n", "--refresh"}, now);
  EXPECT_THAT(first.out, HasSubstr("2-1"));
  EXPECT_THAT(first.out, Not(HasSubstr("was last fetched")));
  // where the settings say how old it may be, that happens by itself
  write_file(station.root() / "etc/hambrel/hambrel.toml", "max_age = 3\n");
  station.pack("lamp", "3-1", "", {{"usr/bin/lamp", "lll"}});
  publish({});
  write_file(clock, "1791000000");
  EXPECT_THAT(station.hambrel({"install", "lamp", "-n"}, now).out, HasSubstr("3-1"));
  // and what can't be fetched is told, and used as it is
  fs::rename(station.repository(), station.path("away"));
  write_file(clock, "1792000000");
  const Ran offline = station.hambrel({"install", "lamp", "-n", "--no-files"}, now);
  EXPECT_EQ(offline.code, 0) << offline.err;
  EXPECT_THAT(offline.err, HasSubstr("what is known of it is used"));
}

TEST_F(Sources, WhatWasGoodInOneChannelGoesToAnother) {
  write_file(station.repository() / "repository.toml",
             "# ours\nkeep = 5\n\n[[channel]]\nname = \"beta\"\npackages = [\"lamp >= 2\"]\n");
  station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "2"}});
  station.pack("lamp", "3-1", "", {{"usr/bin/lamp", "3"}});
  publish({});
  const std::string url = "file://" + station.repository().string();
  ASSERT_EQ(station.hambrel({"repo", "add", "base", url, "--fingerprint", fingerprint}).code, 0);
  EXPECT_THAT(station.hambrel({"install", "lamp", "-n"}).out, HasSubstr("1-1"));
  const auto promote = [&](const std::string& spec, const std::string& from) {
    return station.hambrel(
        {"publish", station.repository().string(), "--keys", keys.string(), "--promote", spec, from, "stable"});
  };
  const Ran ran = promote("lamp=2", "beta");
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("From beta to stable: lamp 2-1"));
  ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
  EXPECT_THAT(station.hambrel({"install", "lamp", "-n"}).out, HasSubstr("2-1"));
  EXPECT_THAT(read_file(station.repository() / "repository.toml"),
              testing::StartsWith("# ours\nkeep = 5\n\n[[channel]]\nname = \"stable\""));
  EXPECT_THAT(station.hambrel({"install", "lamp@beta", "-n"}).out, HasSubstr("3-1"));
  EXPECT_EQ(promote("lamp=2", "beta").code, 3) << "it is not there any more";
  EXPECT_EQ(promote("lump", "beta").code, 3);
  EXPECT_EQ(promote("lamp=", "beta").code, 2);
  EXPECT_EQ(station.hambrel({"publish", station.repository().string(), "--promote", "lamp", "beta"}).code, 2);
}

TEST_F(Sources, AStickHasWhatItNeedsAndNothingElse) {
  station.pack("fog", "1-1", "[relations]\nrequires = [\"lamp\"]\n", {{"usr/bin/fog", "f"}});
  station.pack("horn", "1-1", "", {{"usr/bin/horn", "h"}});
  station.pack("horn", "2-1", "", {{"usr/bin/horn", "hh"}});
  write_file(station.repository() / "repository.toml", "[[channel]]\nname = \"beta\"\npackages = [\"horn >= 2\"]\n");
  write_file(station.repository() / "groups.toml",
             "[[group]]\nname = \"room\"\nsummary = \"room\"\nmembers = [\"fog\"]\n");
  publish({});
  const std::string stick = station.path("stick").string();
  const Ran made = publish({"--subset", "group:room", "--subset", "horn@beta", "--to", stick, "--init"});
  EXPECT_THAT(made.out, HasSubstr("4 package versions in beta, stable"));
  EXPECT_THAT(made.out, HasSubstr("Copied 4 package files"));
  const std::string theirs =
      nlohmann::json::parse(station.hambrel({"publish", stick, "--keys", keys.string(), "--json"}).out)["fingerprint"];
  fs::rename(station.repository(), station.path("far"));
  ASSERT_EQ(station.hambrel({"repo", "add", "file://" + stick, "--fingerprint", theirs}).code, 0);
  EXPECT_EQ(station.hambrel({"install", "group:room", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "fog 1-1, group:room 1-1, lamp 1-1");
  fs::rename(station.path("far"), station.repository());
  // brought up to date: what is not asked for any more goes
  const Ran again = publish({"--subset", "lamp", "--to", stick});
  EXPECT_THAT(again.out, HasSubstr("1 package version in stable"));
  EXPECT_FALSE(fs::exists(stick + "/packages/fog/1-1.independent.hambrel"));
  const auto refused = [&](const std::vector<std::string>& more) {
    std::vector<std::string> words{"publish", station.repository().string(), "--keys", keys.string()};
    words.insert(words.end(), more.begin(), more.end());
    return station.hambrel(words);
  };
  EXPECT_EQ(refused({"--subset", "lump", "--to", stick}).code, 3);
  EXPECT_EQ(refused({"--subset", "lamp"}).code, 2);
  EXPECT_THAT(refused({"--subset", "lamp", "--to", station.root().string()}).err,
              HasSubstr("was not made by --subset"));
}

}  // namespace hambrel::test
