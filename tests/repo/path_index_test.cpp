// The index of paths: the file, what damage does to it, and the cache around it.
#include "repo/path_index.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>

#include "base/error.h"
#include "repo/index.h"
#include "repo/path_search.h"
#include "repo/publish.h"
#include "repo/refresh.h"
#include "support/program.h"
#include "trust/documents.h"
#include "txn/workshop.h"

namespace hambrel::repo {

namespace {

Package package_of(std::size_t number) {
  Package package;
  package.name = "p" + std::to_string(number / 3);
  package.version = Version::parse(std::to_string(number % 3 + 1)).value();
  package.arch = "independent";
  return package;
}

/// A path of parts that many share.
std::string random_path(std::mt19937& random) {
  std::string path = "usr";
  for (std::size_t parts = 1 + random() % 5; parts > 0; --parts)
    path += "/" + std::string(1 + random() % 6, static_cast<char>('a' + random() % 3)) + std::to_string(random() % 20);
  return path;
}

using Holders = std::map<std::string, std::vector<std::string>>;

std::string random_index(std::mt19937& random, std::size_t packages, Holders& holders) {
  PathIndexWriter writer;
  for (std::size_t i = 0; i < packages; ++i) {
    const Package package = package_of(i);
    std::vector<std::string> paths;
    for (int k = 0; k < 60; ++k) paths.push_back(random_path(random));
    for (const std::string& path : std::set<std::string>(paths.begin(), paths.end()))
      holders[path].push_back(package.name + "=" + package.version.text());
    writer.add(package, std::move(paths));
  }
  return writer.finish();
}

std::vector<std::string> ask(PathIndex& index, const std::string& path) {
  std::vector<std::string> names;
  for (const PathHolder& one : index.holders(path)) names.push_back(one.name + "=" + one.version);
  return names;
}

}  // namespace

TEST(PathIndexFile, EveryPathHasItsPackagesAndNoOtherPathHasAny) {
  std::mt19937 random(19);
  Holders holders;
  PathIndex index(std::make_unique<os::MemoryFile>(random_index(random, 2000, holders)), "index");
  ASSERT_GT(holders.size(), 50'000U) << "more than one block of each kind";
  std::size_t number = 0;
  for (const auto& [path, expected] : holders) {
    if (number++ % 97 != 0) continue;
    ASSERT_EQ(ask(index, path), expected) << path;
    for (const std::string& near : {path + "0", path.substr(0, path.size() - 1), path + "/x"})
      ASSERT_EQ(ask(index, near).empty(), !holders.contains(near)) << near;
  }
  EXPECT_TRUE(ask(index, "").empty());
  EXPECT_TRUE(ask(index, "zzz").empty());
}

TEST(PathIndexFile, NoDamageEndsInAnythingButARefusal) {
  std::mt19937 random(20);
  Holders holders;
  const std::string whole = random_index(random, 30, holders);
  const std::string path = holders.begin()->first;
  std::size_t refused = 0;
  for (std::size_t i = 0; i < 4000; ++i) {
    std::string content = whole;
    const std::size_t from = i % 4 == 1 ? 0 : whole.size() - 60;  // the end says where everything is
    const std::size_t at = from + random() % (whole.size() - from);
    if (i % 4 == 0)
      content.resize(at);
    else
      content[at] = static_cast<char>(content[at] ^ (1 << (random() % 8)));
    try {
      PathIndex index(std::make_unique<os::MemoryFile>(content), "index");
      index.holders(path);
    } catch (const Error& problem) {
      EXPECT_EQ(problem.code(), ErrorCode::Untrusted) << problem.what();
      ++refused;
    }
  }
  EXPECT_GT(refused, 2000U);
}

TEST(PathIndexFile, ADirectoryThatWouldFillTheMemoryIsRefused) {
  std::mt19937 random(21);
  Holders holders;
  const std::string whole = random_index(random, 3, holders);
  for (const std::uint64_t plain_size : {(4ULL << 20) + 1, 1ULL << 40}) {
    std::string content = whole;
    for (unsigned i = 0; i < 8; ++i)
      content[content.size() - 8 + i] = static_cast<char>(static_cast<unsigned char>(plain_size >> (8 * i)));
    EXPECT_THAT(test::refusal([&] { PathIndex(std::make_unique<os::MemoryFile>(content), "index"); }),
                testing::HasSubstr("its directory is too large"));
  }
}

class PathSearching : public testing::Test {
 protected:
  void SetUp() override {
    const test::Goods made = test::goods("lamp", "1-1", {{"usr/bin/lamp", "l"}});
    test::write_file(directory / package_path(made.package), made.content);
    publish(*os::open_file_system(directory.text()), 1'750'000'000, silent);
    refresh(*system, network, repositories, repositories, 1000, silent);
  }
  std::size_t found(bool kept = true) {
    Network asked(2, limits);
    return search_paths(*system, kept ? system.get() : nullptr, asked, repositories, "usr/bin/lamp", silent)
        .holders.size();
  }
  test::TempDir directory, root;
  std::unique_ptr<os::FileSystem> system = os::open_file_system(root.text());
  std::vector<settings::Repository> repositories{
      {"base", "file://" + directory.text(), {"stable"}, true, 50, "", true}};
  settings::FetchLimits limits;
  Network network{2};
  Observer silent;
};

TEST_F(PathSearching, WhatWasFetchedOnceIsNotAskedForAgain) {
  EXPECT_EQ(found(false), 1U);
  EXPECT_FALSE(std::filesystem::exists(root / "var/cache/hambrel/index/base/paths.zst")) << "who only looks keeps none";
  EXPECT_EQ(found(), 1U);
  std::filesystem::remove_all(directory / "index");
  EXPECT_EQ(found(), 1U);
}

TEST_F(PathSearching, DamageInTheCacheIsHealedAndDamageInTheRepositoryRefused) {
  EXPECT_EQ(found(), 1U);
  const std::string cached = root / "var/cache/hambrel/index/base/paths.zst";
  std::string content = test::read_file(cached);
  content[20] = static_cast<char>(content[20] ^ 1);
  test::write_file(cached, content);
  EXPECT_EQ(found(), 1U);
  EXPECT_NE(test::read_file(cached), content);
  test::write_file(root / "var/cache/hambrel/index/base/paths.json", "{");
  EXPECT_EQ(found(), 1U);
  std::filesystem::remove(cached);
  test::write_file(directory / "index/files-1.zst", content);
  EXPECT_THAT(test::refusal([&] { found(); }), testing::HasSubstr("files-1.zst: is not what the list of targets"));
  limits.index_mebibytes = 0;
  EXPECT_THAT(test::refusal([&] { found(); }), testing::HasSubstr("at most 0 are accepted"));
}

TEST_F(PathSearching, ARepositoryThatAnOlderHambrelPublishedIsNamed) {
  std::string targets = test::read_file(directory / "trust/1.targets.json");
  const trust::Indexes indexes = trust::read_indexes(targets, "t");
  const trust::Metadata made = trust::make_metadata(2, {indexes.full}, 1000);
  test::write_file(directory / made.targets_path, made.targets);
  test::write_file(directory / made.snapshot_path, made.snapshot);
  test::write_file(directory / "trust/timestamp.json", made.timestamp);
  refresh(*system, network, repositories, repositories, 1000, silent);
  const PathSearch search = search_paths(*system, nullptr, network, repositories, "usr/bin/lamp", silent);
  EXPECT_EQ(search.unsearched, std::vector<std::string>{"base: it has no index of paths"});
  EXPECT_TRUE(publish(*os::open_file_system(directory.text()), 1'750'000'000, silent).changed)
      << "publishing again adds it";
  refresh(*system, network, repositories, repositories, 1000, silent);
  EXPECT_EQ(found(), 1U);
}

}  // namespace hambrel::repo
