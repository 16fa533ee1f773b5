// A repository, or somebody between it and the station, that lies: each over HTTP, against the built program. Each is
// refused with what is wrong and what to do; nothing changes, and what was verified before stays in use.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>

#include <mutex>
#include <thread>

#include "base/json.h"
#include "scenario/station.h"
#include "trust/documents.h"

namespace hambrel::test {

namespace {

using testing::HasSubstr;

/// Serves a directory, but of some paths something else; no content: there is no such file.
class LyingServer {
 public:
  explicit LyingServer(const fs::path& directory) {
    server_.Get(".*", [this, directory](const httplib::Request& asked, httplib::Response& answer) {
      const std::lock_guard lock(mutex_);
      const std::string path = asked.path.substr(1);
      const auto lie = lies_.find(path);
      const std::string content = lie != lies_.end() ? lie->second : read_file(directory / path);
      if (content.empty()) return static_cast<void>(answer.status = 404);
      answer.set_content(content, "application/octet-stream");
    });
    port_ = server_.bind_to_any_port("127.0.0.1");
    thread_ = std::jthread([this] { server_.listen_after_bind(); });
    while (!server_.is_running()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  ~LyingServer() { server_.stop(); }
  std::string url() const { return "http://127.0.0.1:" + std::to_string(port_); }
  void tell(std::map<std::string, std::string> lies) {
    const std::lock_guard lock(mutex_);
    lies_ = std::move(lies);
  }

 private:
  httplib::Server server_;
  std::mutex mutex_;
  std::map<std::string, std::string> lies_;
  int port_ = 0;
  std::jthread thread_;
};

class Attacks : public testing::Test {
 protected:
  using Change = std::function<void(nlohmann::json&)>;

  void SetUp() override {
    fs::create_directories(keys);
    for (const char* name : {"root", "timestamp", "snapshot", "targets-a", "targets-b", "stranger"})
      ASSERT_EQ(station.hambrel({"key", "new", key(name)}).code, 0);
    fs::rename(key("stranger"), station.path("stranger"));
    station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "l"}});
    publish({"--init", "--threshold", "targets=2"});
    server.emplace(station.repository());
    const std::string fingerprint = nlohmann::json::parse(publish({"--json"}).out)["fingerprint"];
    ASSERT_EQ(station.hambrel({"repo", "add", "base", server->url(), "--fingerprint", fingerprint}).code, 0);
    first = files_of_trust();
    ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
    station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "ll"}});
    publish({});
    ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
    station.pack("mast", "1-1", "", {{"usr/bin/mast", "m"}});
  }

  std::string key(const std::string& name) const { return (keys / (name + ".key")).string(); }
  Ran publish(std::vector<std::string> more) const {
    more.insert(more.begin(), {"publish", station.repository().string(), "--keys", keys.string()});
    const Ran ran = station.hambrel(more);
    EXPECT_EQ(ran.code, 0) << ran.err;
    return ran;
  }
  std::map<std::string, std::string> files_of_trust() const {
    std::map<std::string, std::string> files;
    for (const auto& one : fs::recursive_directory_iterator(station.repository() / "trust"))
      if (one.is_regular_file()) files["trust/" + one.path().filename().string()] = read_file(one.path());
    return files;
  }
  std::string document(const std::string& path) const { return read_file(station.repository() / path); }

  /// A document with another content, signed by some of the keys.
  std::string forged(const std::string& path, const Change& change, const std::vector<std::string>& signers) const {
    auto content = nlohmann::json::parse(document(path))["signed"];
    change(content);
    auto made = trust::SignedDocument::make(content);
    for (const std::string& name : signers)
      made.sign(trust::PrivateKey::from_pem(read_file(name == "stranger" ? station.path(name).string() : key(name)),
                                            name, [] { return std::string(); }));
    return made.text();
  }
  static nlohmann::json pointer(const std::string& content, std::uint64_t version) {
    return {{"version", version}, {"length", content.size()}, {"hashes", {{"sha256", sha256(content).hex()}}}};
  }

  /// A refresh with these lies is refused and changes nothing; without them all is well.
  void refused(const std::string& what, const std::map<std::string, std::string>& lies, const std::string& says,
               int code = 5, const std::map<std::string, std::string>& environment = {}) {
    SCOPED_TRACE(what);
    std::vector<std::string> without{"var/cache/hambrel/mirrors"};  // who failed is noted
    if (remembers) without.emplace_back("var/lib/hambrel/trust");
    const auto before = tree(station.root(), without);
    server->tell(lies);
    const Ran ran = station.hambrel({"refresh"}, environment);
    EXPECT_EQ(ran.code, code) << ran.out << ran.err;
    EXPECT_THAT(ran.err, HasSubstr(says));
    EXPECT_THAT(ran.err, HasSubstr("\n  -> ")) << "what to do";
    EXPECT_THAT(ran.out, HasSubstr("stays in use"));
    EXPECT_EQ(tree(station.root(), without), before);
    const auto plan = station.json({"install", "lamp", "-n"})["plan"];
    EXPECT_EQ(plan["steps"][0]["vouched"]["root"], 1) << "what was verified before";
    server->tell({});
    EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
  }

  bool remembers = false;  // what was verified on the way is remembered
  Station station;
  const fs::path keys = station.path("keys");
  std::optional<LyingServer> server;
  std::map<std::string, std::string> first;  // the documents of the first index
};

}  // namespace

TEST_F(Attacks, WhatNobodySignedWhoMay) {
  const auto same = [](nlohmann::json&) {};
  const std::string timestamp = "trust/timestamp.json";
  const std::string none = "timestamp.json: is not signed by any of the timestamp keys";
  refused("nobody", {{timestamp, forged(timestamp, same, {})}}, none);
  refused("a stranger", {{timestamp, forged(timestamp, same, {"stranger"})}}, none);
  refused("a key of another role", {{timestamp, forged(timestamp, same, {"root", "snapshot", "targets-a"})}}, none);
  refused("changed after it was signed",
          {{timestamp,
            [&] {
              auto whole = nlohmann::json::parse(document(timestamp));
              whole["signed"]["version"] = 99;
              return whole.dump();
            }()}},
          none);
  auto twice = nlohmann::json::parse(document(timestamp));
  twice["signatures"].push_back(twice["signatures"][0]);
  refused("a key id twice", {{timestamp, twice.dump()}}, "has two signatures under the same key id");
  auto unknown = nlohmann::json::parse(document(timestamp));
  unknown["signatures"][0]["keyid"] = std::string(64, 'e');
  refused("an id that nobody knows", {{timestamp, unknown.dump()}}, none);
}

TEST_F(Attacks, OneStolenKeyOfTwo) {
  // the thief has a key of targets, and those that lie on the server
  const std::string index = "nothing good";
  const auto lead_astray = [&](nlohmann::json& content) {
    content["version"] = 3;
    content["targets"] = {
        {"index/full-3.jsonl.zst", {{"length", index.size()}, {"hashes", {{"sha256", sha256(index).hex()}}}}}};
  };
  const auto lies = [&](const std::string& targets) {
    const std::string snapshot = forged("trust/2.snapshot.json",
                                        [&](auto& content) {
                                          content["version"] = 3;
                                          content["meta"]["targets.json"] = pointer(targets, 3);
                                        },
                                        {"snapshot"});
    const std::string timestamp = forged("trust/timestamp.json",
                                         [&](auto& content) {
                                           content["version"] = 9;
                                           content["meta"]["snapshot.json"] = pointer(snapshot, 3);
                                         },
                                         {"timestamp"});
    return std::map<std::string, std::string>{{"trust/3.targets.json", targets},
                                              {"trust/3.snapshot.json", snapshot},
                                              {"trust/timestamp.json", timestamp},
                                              {"index/full-3.jsonl.zst", index}};
  };
  const std::string one = "3.targets.json: is signed by 1 of the targets keys; 2 are required";
  refused("one key", lies(forged("trust/2.targets.json", lead_astray, {"targets-a"})), one);
  auto twice = nlohmann::json::parse(forged("trust/2.targets.json", lead_astray, {"targets-a", "stranger"}));
  refused("one key and a stranger", lies(twice.dump()), one);
}

TEST_F(Attacks, YesterdaysDocuments) {
  const std::string timestamp = "trust/timestamp.json";
  refused("the timestamp of the first index", {{timestamp, first.at(timestamp)}},
          "timestamp 1 is older than number 2, which was already seen");
  const std::string snapshot = document("trust/1.snapshot.json"), targets = document("trust/1.targets.json");
  const auto newest = [&](const std::string& names, std::uint64_t version) {
    return forged(timestamp,
                  [&](auto& content) {
                    content["version"] = 9;
                    content["meta"]["snapshot.json"] = pointer(names, version);
                  },
                  {"timestamp"});
  };
  refused("an old snapshot under a new timestamp", {{timestamp, newest(snapshot, 1)}},
          "snapshot 1 is older than number 2, which was already seen");
  const std::string mixed = forged("trust/2.snapshot.json",
                                   [&](auto& content) {
                                     content["version"] = 3;
                                     content["meta"]["targets.json"] = pointer(targets, 1);
                                   },
                                   {"snapshot"});
  refused("an old list of targets under a new snapshot",
          {{timestamp, newest(mixed, 3)}, {"trust/3.snapshot.json", mixed}},
          "targets 1 is older than number 2, which was already seen");
  // not even where the cache was emptied
  fs::remove_all(station.root() / "var/cache/hambrel");
  server->tell(first);
  EXPECT_EQ(station.hambrel({"refresh"}).code, 5);
  server->tell({});
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
}

TEST_F(Attacks, DocumentsThatDoNotBelongTogether) {
  int number = 2;
  std::string before, now, index, delta;  // of the documents, and where the index and its delta lie by their digests
  const auto newer = [&] {
    before = std::to_string(number);
    now = std::to_string(++number);
    station.pack("p" + now, "1-1", "", {{"usr/p" + now, now}});
    publish({});
    for (const auto& one : fs::directory_iterator(station.repository() / "index"))
      for (const auto& [name, place] : {std::pair(".full-" + now, &index), {".delta-" + before + "-" + now, &delta}})
        if (one.path().string().ends_with(name + ".jsonl.zst")) *place = "index/" + one.path().filename().string();
  };
  for (const std::string kind : {".snapshot.json", ".targets.json"}) {
    newer();
    refused("yesterday's " + kind, {{"trust/" + now + kind, document("trust/" + before + kind)}},
            "is not what the repository describes (its digest differs)");
  }
  remembers = true;  // the documents are right
  newer();
  refused("yesterday's index", {{index, document("index/full-" + before + ".jsonl.zst")}, {delta, "nothing"}},
          "is not what the list of targets describes");
  newer();
  refused("another index of the same length",
          {{index, std::string(document(index).size(), 'x')}, {delta, std::string(document(delta).size(), 'x')}},
          "is not what the list of targets describes");
}

TEST_F(Attacks, PackagesThatAreOthersOrWereChanged) {
  const std::string lamp = "packages/lamp/2-1.independent.hambrel";
  station.pack("horn", "1-1", "", {{"usr/bin/horn", "h"}});
  std::string changed = document(lamp);
  changed[changed.size() / 2] = static_cast<char>(changed[changed.size() / 2] ^ 1);
  for (const std::string& content : {document("packages/horn/1-1.independent.hambrel"),
                                     document("packages/lamp/1-1.independent.hambrel"), changed}) {
    const auto before = station.files();
    server->tell({{lamp, content}});
    const Ran ran = station.hambrel({"install", "lamp", "-y"});
    EXPECT_EQ(ran.code, 5) << ran.err;
    EXPECT_THAT(ran.err, HasSubstr("\n  -> "));
    EXPECT_EQ(station.files(), before);
    EXPECT_EQ(station.installed(), "");
  }
  server->tell({});
  EXPECT_EQ(station.hambrel({"install", "lamp", "-y"}).code, 0);
}

TEST_F(Attacks, WhatIsHeldBack) {
  const std::int64_t now = ::time(nullptr);
  const auto at = [&](int days) {
    write_file(station.path("clock"), std::to_string(now + days * 86400LL));
    return std::map<std::string, std::string>{{"HAMBREL_TEST_CLOCK", station.path("clock").string()}};
  };
  refused("nothing newer came in a week", {}, "timestamp.json: expired at ", 5, at(8));
  refused("in a quarter of a year, with timestamps of a thief",
          {{"trust/timestamp.json", forged("trust/timestamp.json",
                                           [&](auto& content) {
                                             content["version"] = 9;
                                             content["expires"] = "2038-01-01T00:00:00Z";
                                           },
                                           {"timestamp"})}},
          "2.snapshot.json: expired at ", 5, at(91));
  refused("the root was not renewed", {}, "root 1 expired at ", 5, at(366));
  // a clock that was put back makes nothing fresh again
  station.hambrel({"publish", station.repository().string(), "--keys", keys.string(), "--renew"}, at(6));
  EXPECT_EQ(station.hambrel({"refresh"}, at(12)).code, 0);
  const Ran back = station.hambrel({"refresh"}, at(0));
  EXPECT_EQ(back.code, 0) << "still good";
  server->tell({{"trust/timestamp.json", first.at("trust/timestamp.json")}});
  EXPECT_EQ(station.hambrel({"refresh"}, at(0)).code, 5);
}

TEST_F(Attacks, RootsThatDoNotFollow) {
  const std::string root = "trust/1.root.json";
  const auto next = [&](std::uint64_t version, const Change& change, const std::vector<std::string>& signers) {
    return forged(
        root,
        [&](auto& content) {
          content["version"] = version;
          change(content);
        },
        signers);
  };
  const auto same = [](nlohmann::json&) {};
  // new roots are asked for where the timestamp is another one
  const auto lies = [&](const std::string& second) {
    return std::map<std::string, std::string>{
        {"trust/2.root.json", second},
        {"trust/timestamp.json",
         forged("trust/timestamp.json", [](auto& content) { content["version"] = 50; }, {"timestamp"})}};
  };
  refused("signed by nobody of the one before", lies(next(2, same, {"timestamp", "targets-a"})),
          "2.root.json: is not signed by any of the root 1 keys");
  refused("a number left out", lies(next(3, same, {"root"})), "is number 3 where 2 comes after 1");
  refused("the same again", lies(document(root)), "is number 1 where 2 comes after 1");
  refused("a key under another's id",
          lies(next(2,
                    [](auto& content) {
                      auto& all = content["keys"];
                      all[std::string(64, 'e')] = *all.begin();
                    },
                    {"root"})),
          "whose id is");
  refused("a threshold that nobody can reach",
          lies(next(2, [](auto& content) { content["roles"]["targets"]["threshold"] = 7; }, {"root"})),
          "asks for 7 of 2 keys of targets");
  refused(
      "one that asks for other keys of root, which did not sign",
      lies(next(2, [](auto& content) { content["roles"]["root"]["keyids"] = content["roles"]["snapshot"]["keyids"]; },
                {"root"})),
      "is not signed by any of the root 2 keys");
}

TEST_F(Attacks, ARestoredBackupAndACopiedRootAreNotLockedOut) {
  const fs::path backup = station.path("backup"), copy = station.path("copy");
  fs::copy(station.root(), backup, fs::copy_options::recursive);
  ASSERT_EQ(station.hambrel({"key", "new", key("timestamp-b")}).code, 0);
  const std::string old = key("timestamp");
  fs::rename(old, station.path("old"));
  publish({"--rotate", "timestamp"});  // with another index
  ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
  fs::copy(station.root(), copy, fs::copy_options::recursive);
  EXPECT_EQ(run({HAMBREL_PROGRAM, "--root", copy.string(), "refresh"}).code, 0);
  fs::remove_all(station.root());
  fs::copy(backup, station.root(), fs::copy_options::recursive);
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0) << "it goes along the chain once more";
  EXPECT_EQ(station.json({"repo", "show", "base"})["trusted_root"], 2);
  // a state that belongs to another decision counts for nothing
  fs::remove_all(station.root() / "var/lib/hambrel/trust");
  fs::create_directories(station.root() / "var/lib/hambrel/trust/base");
  write_file(station.root() / "var/lib/hambrel/trust/base/state.json",
             R"({"first":"another","root":"","time":0,"timestamp":9,"snapshot":9,"targets":9})");
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
}

TEST_F(Attacks, DocumentsOfAnotherKindOrForm) {
  const std::string timestamp = "trust/timestamp.json";
  refused("a snapshot in the timestamp's place", {{timestamp, document("trust/2.snapshot.json")}},
          "\"_type\" must be \"timestamp\"");
  std::string twice = document(timestamp);
  twice.insert(twice.find("\"version\""), "\"version\":99,");
  refused("a member twice", {{timestamp, twice}}, "twice");
  std::string fraction = document(timestamp);
  fraction.replace(fraction.rfind("\"version\":2"), 11, "\"version\":2.0");
  refused("a number in another form", {{timestamp, fraction}}, "must be a whole number");
  refused("no document", {{timestamp, "<html>Please log in</html>"}}, "not valid JSON");
  // another form of the same is the same
  server->tell({{timestamp, nlohmann::json::parse(document(timestamp)).dump(8)}});
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
}

TEST_F(Attacks, MoreThanAnybodyNeeds) {
  refused("a timestamp without end", {{"trust/timestamp.json", std::string(1 << 20, ' ')}}, "more than");
  const auto newer = [&](int version) {
    return forged("trust/timestamp.json", [&](auto& content) { content["version"] = version; }, {"timestamp"});
  };
  refused("a root without end", {{"trust/2.root.json", std::string(8 << 20, ' ')}, {"trust/timestamp.json", newer(50)}},
          "more than");
  const auto large = [&](auto& content) {
    content["version"] = 9;
    content["meta"]["snapshot.json"]["length"] = 1ULL << 40;
  };
  refused("a snapshot that says so", {{"trust/timestamp.json", forged("trust/timestamp.json", large, {"timestamp"})}},
          "lists a snapshot of 1099511627776 bytes");
  std::map<std::string, std::string> chain;  // one root after the other, each right
  for (std::uint64_t version = 2; version < 300; ++version)
    chain["trust/" + std::to_string(version) + ".root.json"] =
        forged("trust/1.root.json", [&](auto& content) { content["version"] = version; }, {"root"});
  chain["trust/timestamp.json"] = newer(50);
  server->tell(chain);
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0) << "as far as it goes at once, and on from there the next time";
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
  EXPECT_EQ(station.json({"repo", "show", "base"})["trusted_root"], 299);
}

}  // namespace hambrel::test
