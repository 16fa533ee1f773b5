// Upgrades that fetch no more of a package than what has changed.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "scenario/slow_server.h"
#include "scenario/station.h"

namespace hambrel::test {

namespace {

using testing::AnyOf;
using testing::HasSubstr;
using testing::IsEmpty;
using testing::Not;
using testing::StartsWith;

constexpr std::size_t kTile = 200'000;

class Ranged : public testing::Test {
 protected:
  Ranged() : files(tiles("chart", 40, kTile)), server(station.repository()) {
    station.pack("chart", "1-1", "", files);
    station.publish();
    EXPECT_EQ(station.hambrel({"repo", "add", "web", server.url(), "--unsigned"}).code, 0);
    EXPECT_EQ(station.hambrel({"install", "chart", "-y"}).code, 0);
    server.sent();
  }
  void change(int tile) { files.at(path(tile))[7] ^= 1; }
  static std::string path(int tile) { return "usr/share/chart/" + std::to_string(tile); }
  void publish(const std::string& version) {
    station.pack("chart", version, "", files);
    station.publish();
    EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
    server.sent();
    server.asked();
  }
  void expect_all_as_packed() const {
    for (const auto& [path, content] : files) EXPECT_EQ(read_file(station.root() / path), content) << path;
    EXPECT_EQ(station.hambrel({"verify"}).code, 0);
  }
  std::vector<fs::path> in_cache() const {
    std::vector<fs::path> found;
    const fs::path directory = station.root() / "var/cache/hambrel/packages/chart";
    if (fs::exists(directory))
      for (const auto& one : fs::directory_iterator(directory)) found.push_back(one.path());
    return found;
  }
  void empty_cache() const { fs::remove_all(station.root() / "var/cache/hambrel/packages"); }

  Station station;
  std::map<std::string, std::string> files;
  SlowServer server;
};

TEST_F(Ranged, OnlyWhatHasChangedIsFetchedAndThePlanSaysSo) {
  empty_cache();
  change(3);
  change(4);
  change(30);
  publish("2-1");
  const auto before = station.contents();
  const auto plan = station.json({"upgrade", "--dry-run"})["plan"];
  const Ran ran = station.hambrel({"upgrade", "-y"});
  EXPECT_THAT(ran.out, HasSubstr(" of 7.7 MiB (the rest is here) in 1 file"));
  EXPECT_GT(plan["download"], 3 * kTile);
  EXPECT_LT(plan["download"], 3 * kTile + 20'000);
  EXPECT_EQ(station.json({"ledger", "show", "2"})["downloaded"], plan["download"]);
  EXPECT_LT(server.sent(), 3 * kTile + 60'000) << "tables of contents, twice, and the ranges";
  expect_all_as_packed();
  EXPECT_THAT(in_cache(), IsEmpty());
  EXPECT_EQ(station.hambrel({"undo", "last", "-y"}).code, 0);
  EXPECT_EQ(station.contents(), before);
  EXPECT_EQ(server.sent(), 0);
}

TEST_F(Ranged, WhatOnlyMovesIsCopiedUnlessSomebodyHasChangedIt) {
  std::map<std::string, std::string> moved;
  for (const auto& [path, content] : files) moved["usr/share/sea/" + path.substr(16)] = content;
  std::swap(files, moved);
  write_file(station.root() / "usr/share/chart/12", std::string(kTile, 'x'));
  publish("2-1");
  EXPECT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  expect_all_as_packed();
  EXPECT_LT(server.sent(), kTile + 60'000) << "the one that was changed";
  const auto inode = [&](const fs::path& path) { return std::filesystem::hard_link_count(path); };
  EXPECT_EQ(inode(station.root() / "usr/share/sea/3"), 1) << "the attic has a file of its own";
}

TEST_F(Ranged, AFileThatTheAtticHasIsNotFetchedAgain) {
  const std::string first = files.at(path(5));
  change(5);
  publish("2-1");
  EXPECT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  files.at(path(5)) = first;
  change(20);
  publish("3-1");
  EXPECT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  expect_all_as_packed();
  EXPECT_LT(server.sent(), kTile + 60'000);
}

TEST_F(Ranged, WhatBreaksOffIsGoneOnWith) {
  change(3);
  change(30);
  publish("2-1");
  const auto before = station.files();
  const std::size_t half = kTile / 2;
  std::map<std::string, std::size_t> came;
  std::mutex mutex;
  std::size_t left = kTile + half;  // the tables of contents are less
  server.gate = [&](const std::string&, std::size_t) {
    const std::lock_guard lock(mutex);
    if (left < 64 << 10) return false;
    left -= 64 << 10;
    return true;
  };
  const Ran broken = station.hambrel({"upgrade", "-y"});
  EXPECT_EQ(broken.code, 1) << broken.err;
  EXPECT_THAT(broken.err, HasSubstr("the next try continues from there"));
  EXPECT_EQ(station.files(), before);
  EXPECT_THAT(in_cache(), Not(IsEmpty()));
  server.gate = [](auto&, auto) { return true; };
  server.sent();
  EXPECT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  EXPECT_LT(server.sent(), 2 * kTile - (64 << 10)) << "some of it was there";
  expect_all_as_packed();
}

TEST_F(Ranged, ADamagedRangeIsAskedOfTheNextMirrorOrRefused) {
  change(3);
  change(30);
  publish("2-1");
  const fs::path copy = station.path("copy");
  fs::copy(station.repository(), copy, fs::copy_options::recursive);
  SlowServer good(copy);
  // in the frames that are fetched, and in no other
  const fs::path package = station.repository() / "packages/chart/2-1.independent.hambrel";
  std::string bytes = read_file(package);
  const std::size_t at = bytes.find(files.at(path(30)).substr(1000, 16));
  ASSERT_NE(at, std::string::npos);
  bytes[at] ^= 1;
  write_file(package, bytes);
  const auto before = station.files();
  const Ran refused = station.hambrel({"upgrade", "-y"});
  EXPECT_EQ(refused.code, 5) << refused.err;
  // whoever comes to it first says so: the one that fetches, or the one that unpacks meanwhile
  EXPECT_THAT(refused.err, AnyOf(HasSubstr("chart 2-1 is not the file that web describes"),
                                 HasSubstr("packages/chart/2-1.independent.hambrel: damaged at offset")));
  EXPECT_THAT(refused.err, HasSubstr("may have been tampered with"));
  EXPECT_EQ(station.files(), before);
  EXPECT_EQ(station.hambrel({"ledger", "show", "last"}).out.find("done"), std::string::npos);
  write_file(station.root() / "etc/hambrel/repos/web.toml", "mirrors = [\"" + server.url() + "\", \"" + good.url() +
                                                                "\"]\nchannels = [\"stable\"]\ntrust = \"none\"\n");
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
  const Ran ran = station.hambrel({"upgrade", "-y"});
  EXPECT_EQ(ran.code, 0) << ran.err;
  expect_all_as_packed();
}

TEST_F(Ranged, NothingIsFetchedOfAPackageOfWhichNothingHasChanged) {
  publish("2-1");
  server.asked();
  const Ran ran = station.hambrel({"upgrade", "-y"});
  EXPECT_THAT(ran.out, HasSubstr("Nothing to fetch"));
  EXPECT_EQ(server.asked().size(), 1) << "its table of contents";
  expect_all_as_packed();
}

}  // namespace

}  // namespace hambrel::test
