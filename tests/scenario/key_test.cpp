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

}  // namespace hambrel::test
