// Indexes that come as what has changed: whatever was published and whenever somebody asks, it is the same catalogue.
#include <gmock/gmock.h>

#include <chrono>
#include <random>
#include <thread>

#include "archive/frame_codec.h"
#include "repo/index_delta.h"
#include "repo/path_search.h"
#include "repo/publishing.h"
#include "repo/source.h"
#include "trust/documents.h"

namespace hambrel::repo {

namespace {

class Deltas : public Publishing {
 protected:
  /// A root that follows the repository, as old as its last refresh.
  struct Follower {
    test::TempDir place;
    std::unique_ptr<os::FileSystem> root = os::open_file_system(place.text());
  };
  std::vector<settings::Repository> all{{"base", "file://" + directory.text(), {"stable"}, true, 50, "", true}};

  RefreshResult refresh_of(Follower& one) {
    Network asked(2);
    return repo::refresh(*one.root, asked, all, all, 1000, silent)[0];
  }
  static std::string catalogue(Follower& one) {
    return test::read_file(one.place / "var/cache/hambrel/index/_catalogue.image");
  }
  std::size_t deltas_of(Follower& one) {
    const auto source = read_source(*one.root, all[0]);
    return source ? source->deltas.size() : 0;
  }
  std::filesystem::path file_of(const std::string& name, const std::string& version) {
    return directory / ("packages/" + name + "/" + version + ".independent.hambrel");
  }
  /// Somebody who begins now, with the whole index.
  std::string whole() {
    Follower fresh;
    EXPECT_FALSE(refresh_of(fresh).problem);
    EXPECT_EQ(deltas_of(fresh), 0U);
    return catalogue(fresh);
  }
  /// So many packages that a few changes are a small part of them.
  void put_many(int count = 40) {
    for (int i = 0; i < count; ++i) put("p" + std::to_string(i), "1-1");
  }
};

}  // namespace

TEST_F(Deltas, WhoeverAsksWheneverHasTheCatalogueOfTheWholeIndex) {
  for (unsigned seed = 1; seed <= 4; ++seed) {
    std::mt19937 random(seed);
    const auto below = [&](unsigned most) { return std::uniform_int_distribution<unsigned>(0, most - 1)(random); };
    std::filesystem::remove_all(directory / "packages");
    std::filesystem::remove_all(directory / "index");
    std::filesystem::remove_all(directory / "trust");
    put_many();
    publish();
    std::vector<std::unique_ptr<Follower>> followers;
    std::size_t by_deltas = 0;
    for (int round = 0; round < 12; ++round) {
      for (unsigned i = below(4); i > 0; --i) {
        const std::string name = "p" + std::to_string(below(45));
        const std::string version = std::to_string(1 + below(3)) + "-1";
        if (below(3) == 0 && std::filesystem::exists(file_of(name, version)))
          std::filesystem::remove(file_of(name, version));
        else
          put(name, version);
      }
      if (below(5) == 0)
        test::write_file(directory / "repository.toml",
                         fmt::format("[[channel]]\nname = \"beta\"\npackages = [\"p{} >= 2\"]\n", below(40)));
      publish();
      if (below(2) == 0) followers.push_back(std::make_unique<Follower>());
      const std::string expected = whole();
      for (const auto& one : followers) {
        if (below(3) == 0) continue;
        const RefreshResult result = refresh_of(*one);
        ASSERT_FALSE(result.problem) << seed << " " << round << ": " << result.problem->what();
        ASSERT_EQ(catalogue(*one), expected) << seed << " " << round;
        by_deltas += deltas_of(*one) > 0 ? 1 : 0;
      }
    }
    EXPECT_GT(by_deltas, 5U) << seed;
  }
}

TEST_F(Deltas, OneThatDoesNotFitOrIsGoneCostsNothingButTheWholeIndex) {
  put_many();
  publish();
  for (const std::string what : {"gone", "damaged", "of another index"}) {
    Follower one;
    ASSERT_FALSE(refresh_of(one).problem);
    put("new-" + std::string(what.substr(0, 2)), "1-1");
    const std::uint64_t version = publish().version;
    const std::filesystem::path delta = directory / trust::delta_path(version - 1, version);
    ASSERT_TRUE(std::filesystem::exists(delta)) << what;
    if (what == "gone") std::filesystem::remove(delta);
    if (what == "damaged") test::write_file(delta, "nothing");
    if (what == "of another index") {
      // signed by whoever publishes, and wrong all the same
      const std::string wrong = make_delta({}, {}, sha256("a"), sha256("b"));
      test::write_file(delta, wrong);
      trust::Indexes indexes =
          trust::read_indexes(test::read_file(directory / trust::targets_path(version)), "targets");
      indexes.deltas.back().digest = sha256(wrong);
      indexes.deltas.back().length = wrong.size();
      const trust::Metadata made = trust::make_metadata(version, indexes, 1'750'000'000);
      test::write_file(directory / made.targets_path, made.targets);
      test::write_file(directory / made.snapshot_path, made.snapshot);
      test::write_file(directory / "trust/timestamp.json", made.timestamp);
    }
    const RefreshResult result = refresh_of(one);
    EXPECT_FALSE(result.problem) << what << ": " << result.problem->what();
    EXPECT_EQ(deltas_of(one), 0U) << what;
    EXPECT_EQ(catalogue(one), whole()) << what;
  }
}

TEST_F(Deltas, TheirSumNeverExceedsTheIndex) {
  put_many();
  publish();
  Follower one;
  ASSERT_FALSE(refresh_of(one).problem);
  bool began_anew = false;
  for (int i = 0; i < 40; ++i) {
    put("q" + std::to_string(i), "1-1");
    publish();
    ASSERT_FALSE(refresh_of(one).problem);
    const auto source = read_source(*one.root, all[0]);
    std::uint64_t bytes = 0;
    for (const Digest& delta : source->deltas) bytes += one.root->stat(cached_delta("base", delta))->size;
    EXPECT_LT(bytes, std::filesystem::file_size(directory / trust::index_path(source->version)));
    began_anew = began_anew || (i > 0 && source->deltas.empty());
  }
  EXPECT_TRUE(began_anew);
  std::size_t files = 0;
  for (const auto& file : std::filesystem::directory_iterator(one.place / "var/cache/hambrel/index/base"))
    files += file.path().string().find(".jsonl.zst") != std::string::npos ? 1 : 0;
  EXPECT_EQ(files, 1U) << "of whole indexes, only that in use is kept";
}

TEST_F(Deltas, PathsOfWhatWasAddedAreFoundBesideTheOthers) {
  put_many(400);
  publish();
  Follower one;
  ASSERT_FALSE(refresh_of(one).problem);
  Network asked(2);
  const auto holders = [&](const std::string& path) {
    std::string names;
    for (const PathHolder& holder : search_paths(*one.root, one.root.get(), asked, all, path, silent).holders)
      names += holder.name + " " + holder.version + ";";
    return names;
  };
  EXPECT_EQ(holders("usr/bin/p7"), "p7 1-1;");
  put("p7", "2-1");
  put("extra", "1-1");
  const std::uint64_t version = publish().version;
  EXPECT_TRUE(std::filesystem::exists(directory / trust::paths_delta_path(version - 1, version)));
  EXPECT_FALSE(std::filesystem::exists(directory / trust::paths_path(version)));
  ASSERT_FALSE(refresh_of(one).problem);
  EXPECT_EQ(holders("usr/bin/p7"), "p7 1-1;p7 2-1;");
  EXPECT_EQ(holders("usr/bin/extra"), "extra 1-1;");
  std::filesystem::remove_all(directory / "index");
  EXPECT_EQ(holders("usr/bin/extra"), "extra 1-1;") << "what was fetched once is not asked for again";
}

TEST_F(Deltas, WhatWasNotTouchedIsNotReadAgain) {
  put_many();
  EXPECT_EQ(publish().read, 40U);
  std::this_thread::sleep_for(std::chrono::milliseconds(3100));  // until a change could not be missed any more
  publish();
  put("p7", "2-1");
  EXPECT_EQ(publish().read, 1U);
  // changed in place, with the size and the time that it had
  const std::filesystem::path file = file_of("p9", "1-1");
  const auto time = std::filesystem::last_write_time(file);
  std::string content = test::read_file(file);
  content[content.size() / 2] = static_cast<char>(content[content.size() / 2] ^ 1);
  test::write_file(file, content);
  std::filesystem::last_write_time(file, time);
  EXPECT_THAT(test::refusal([&] { publish(); }), testing::HasSubstr("p9/1-1.independent.hambrel"));
}

TEST_F(Deltas, OfManyVersionsTheNewestAreKeptAndTheOthersGoLater) {
  for (const char* version : {"1-1", "2-1", "3-1", "4-1"}) put("lamp", version);
  test::write_file(directory / "repository.toml", "keep = 2\n");
  const Published first = publish();
  EXPECT_EQ(first.packages, 2U);
  EXPECT_EQ(first.left_out, (std::vector<std::string>{"packages/lamp/2-1.independent.hambrel",
                                                      "packages/lamp/1-1.independent.hambrel"}));
  EXPECT_TRUE(std::filesystem::exists(file_of("lamp", "1-1"))) << "who has the last index may be fetching it";
  put("lamp", "5-1");
  const Published later =
      repo::publish(*os::open_file_system(directory.text()), 1'750'000'000 + 2 * trust::kDay, silent);
  EXPECT_EQ(later.deleted, first.left_out);
  EXPECT_FALSE(std::filesystem::exists(file_of("lamp", "1-1")));
  EXPECT_TRUE(std::filesystem::exists(file_of("lamp", "3-1")));
  EXPECT_EQ(later.packages, 2U);
}

}  // namespace hambrel::repo
