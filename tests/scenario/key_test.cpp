// Keys as whoever publishes makes and uses them.
#include <gmock/gmock.h>
#include <sys/stat.h>

#include <nlohmann/json.hpp>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

class KeyFiles : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "l"}});
    station.publish();
  }
  std::string at(const std::string& name) const { return station.path(name).string(); }
  nlohmann::json json(const std::vector<std::string>& words) {
    std::vector<std::string> all = words;
    all.emplace_back("--json");
    return nlohmann::json::parse(station.hambrel(all).out);
  }
  static unsigned mode_of(const std::string& file) {
    struct stat info {};
    return ::stat(file.c_str(), &info) == 0 ? info.st_mode & 07777U : 0;
  }
  Station station;
};

TEST_F(KeyFiles, AreMadeForTheirOwnerAloneAndNeverOverwritten) {
  const auto made = json({"key", "new", at("k")});
  EXPECT_EQ(mode_of(at("k")), 0600U);
  EXPECT_EQ(mode_of(at("k.pub")), 0644U);
  EXPECT_EQ(json({"key", "show", at("k")})["id"], made["id"]);
  EXPECT_EQ(json({"key", "show", at("k.pub")})["public"], made["public"]);
  const std::string before = read_file(at("k"));
  const Ran again = station.hambrel({"key", "new", at("k")});
  EXPECT_EQ(again.code, 3);
  EXPECT_THAT(again.err, HasSubstr("is there already; a key is never overwritten"));
  EXPECT_EQ(read_file(at("k")), before);
  write_file(at("other.pub"), "mine");
  EXPECT_EQ(station.hambrel({"key", "new", at("other")}).code, 3);
  EXPECT_EQ(read_file(at("other.pub")), "mine");
  EXPECT_FALSE(fs::exists(at("other"))) << "no half of a key";
}

TEST_F(KeyFiles, APassphraseIsAskedForOnATerminalOnly) {
  EXPECT_EQ(station.hambrel({"key", "new", at("k"), "--passphrase"}).code, 4);
  EXPECT_FALSE(fs::exists(at("k")));
  EXPECT_EQ(station.on_terminal("once|otherwise", {"key", "new", at("k"), "--passphrase"}).code, 3);
  EXPECT_FALSE(fs::exists(at("k")));
  const Ran made = station.on_terminal("open sesame|open sesame", {"key", "new", at("k"), "--passphrase"});
  EXPECT_EQ(made.code, 0) << made.out;
  EXPECT_THAT(made.out, testing::Not(HasSubstr("open sesame"))) << "what is typed is not shown";
  EXPECT_THAT(read_file(at("k")), HasSubstr("ENCRYPTED"));
  EXPECT_EQ(station.on_terminal("wrong", {"key", "show", at("k")}).code, 3);
  EXPECT_EQ(station.on_terminal("open sesame", {"key", "show", at("k")}).code, 0);
}

TEST_F(KeyFiles, SignDocumentsOnceEach) {
  const std::string document = (station.repository() / "trust/timestamp.json").string();
  json({"key", "new", at("a")});
  json({"key", "new", at("b")});
  EXPECT_EQ(json({"key", "sign", document, "--key", at("a")})["signatures"], 1);
  EXPECT_EQ(json({"key", "sign", document, "--key", at("b")})["signatures"], 2);
  EXPECT_EQ(json({"key", "sign", document, "--key", at("a")})["signatures"], 2) << "the one that it had is renewed";
  EXPECT_EQ(mode_of(document), 0644U);
  const std::string before = read_file(document);
  EXPECT_EQ(station.hambrel({"key", "sign", document, "--key", at("a.pub")}).code, 1);
  EXPECT_EQ(station.hambrel({"key", "sign", document}).code, 2);
  write_file(at("no-document"), "{\"signed\":{\"_type\":\"menu\"},\"signatures\":[]}");
  EXPECT_THAT(station.hambrel({"key", "sign", at("no-document"), "--key", at("a")}).err,
              HasSubstr("\"_type\" must be root, timestamp, snapshot or targets"));
  EXPECT_EQ(read_file(document), before);
  station.open();  // a signed repository is read as before
  EXPECT_THAT(station.hambrel({"install", "-n", "lamp"}).out, HasSubstr("lamp"));
}

/// A package file from outside, signed by ada, whom nobody knows yet.
class SignedFiles : public KeyFiles {
 protected:
  void SetUp() override {
    KeyFiles::SetUp();
    plain = station.pack("oar", "1-1", "", {{"usr/bin/oar", "o"}}, at("plain.hambrel"));
    json({"key", "new", at("ada.key")});
    json({"pack", at("src-oar-1-1"), "-o", at("oar.hambrel"), "--key", at("ada.key")});
    oar = at("oar.hambrel");
  }
  std::string plain, oar;
};

TEST_F(SignedFiles, AreTheSameWheneverTheyAreSigned) {
  EXPECT_EQ(json({"key", "sign", plain, "--key", at("ada.key")})["signatures"], 1);
  EXPECT_EQ(read_file(plain), read_file(oar));
  json({"key", "new", at("bob.key")});
  EXPECT_EQ(json({"key", "sign", oar, "--key", at("bob.key")})["signatures"], 2);
  EXPECT_EQ(json({"key", "sign", oar, "--key", at("ada.key")})["signatures"], 2);
  const auto signers = json({"describe", oar})["signers"];
  EXPECT_EQ(signers.size(), 2U);
  EXPECT_TRUE(signers[0]["name"].is_null());
  EXPECT_EQ(run({"/bin/sh", "-c", "tar --zstd -tf " + oar}).code, 0) << "still an ordinary archive";
}

TEST_F(SignedFiles, WhatNobodyVouchesForNeedsADecisionOfItsOwn) {
  const std::string key = json({"key", "show", at("ada.key")})["id"];
  for (const std::string& file : {plain, oar}) {
    const Ran refused = station.hambrel({"install", file, "--yes"});
    EXPECT_EQ(refused.code, 4);
    EXPECT_THAT(refused.err, HasSubstr(file == oar ? key : "is not signed"));
    EXPECT_EQ(station.hambrel({"install", file, "--json"}).code, 4);
    EXPECT_EQ(station.on_terminal("no", {"install", file}).code, 4);
    EXPECT_EQ(station.on_terminal("yes|no", {"install", file}).code, 4);
    EXPECT_EQ(station.hambrel({"install", file, "-n"}).code, 0) << "who only looks is told";
  }
  EXPECT_EQ(station.hambrel({"install", plain, "-y", "--download-only"}).code, 0) << "nothing is installed";
  EXPECT_EQ(station.installed(), "");
  EXPECT_EQ(station.hambrel({"ledger", "--json"}).out, "");
  EXPECT_EQ(station.on_terminal("yes|yes", {"install", oar}).code, 0);
  EXPECT_EQ(station.hambrel({"remove", "oar", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"undo", "2", "-y"}).code, 0) << "what was accepted once comes back without a question";
  EXPECT_EQ(station.hambrel({"remove", "oar", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"install", plain, "-y", "--allow-unsigned"}).code, 0);
  EXPECT_EQ(station.hambrel({"remove", "oar", "-y"}).code, 0);
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[files]\nunsigned = \"allow\"\n");
  const Ran allowed = station.hambrel({"install", plain, "-y"});
  EXPECT_EQ(allowed.code, 0);
  EXPECT_THAT(allowed.out, HasSubstr("nobody vouches for oar from " + plain));
}

TEST_F(SignedFiles, AKeyThatIsKnownVouchesAndTheLedgerSaysSo) {
  const auto known = json({"key", "add", at("ada.key.pub")});
  EXPECT_EQ(known["name"], "ada");
  EXPECT_EQ(station.hambrel({"key", "add", at("ada.key"), "again"}).code, 3) << "the same key";
  EXPECT_EQ(station.hambrel({"key", "add", plain}).code, 1);
  const Ran ran = station.hambrel({"install", oar, "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("is signed by ada"));
  EXPECT_EQ(json({"ledger", "show", "1"})["plan"]["steps"][0]["vouched"]["keys"][0], known["id"]);
  EXPECT_EQ(json({"describe", "oar"})["vouched"]["keys"][0], known["id"]);
  EXPECT_EQ(json({"key", "list"})["id"], known["id"]);
  EXPECT_EQ(station.hambrel({"key", "drop", "ada"}).code, 0);
  EXPECT_EQ(station.hambrel({"remove", "oar", "-y"}).code, 0);
  EXPECT_EQ(station.hambrel({"install", oar, "-y"}).code, 4);
}

TEST_F(SignedFiles, ASignatureThatDoesNotFitSpoilsTheFile) {
  json({"key", "add", at("ada.key.pub")});
  const std::string good = read_file(oar),
                    other = station.pack("oar", "2-1", "", {{"usr/bin/oar", "x"}}, at("2.hambrel"));
  std::string bad = good;
  bad[bad.size() - 80] = static_cast<char>(bad[bad.size() - 80] ^ 1);  // in the signature
  write_file(oar, bad);
  for (const std::vector<std::string>& words : {std::vector<std::string>{"install", oar, "-y", "--allow-unsigned"},
                                                {"describe", oar},
                                                {"install", oar, "-n"}}) {
    const Ran ran = station.hambrel(words);
    EXPECT_EQ(ran.code, 5) << ran.out;
    EXPECT_THAT(ran.err, HasSubstr("does not fit this file"));
  }
  // a good signature of another file
  const std::string content = read_file(other);
  write_file(oar, content.substr(0, content.size() - 72) + good.substr(good.size() - 72 - 120, 120) +
                      content.substr(content.size() - 72));
  EXPECT_EQ(station.hambrel({"install", oar, "-y"}).code, 5);
  EXPECT_EQ(station.installed(), "");
}

}  // namespace hambrel::test
