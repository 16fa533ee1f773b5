#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <future>

#include "archive/frame_codec.h"
#include "repo/index.h"
#include "repo/publishing.h"
#include "repo/refresh.h"
#include "support/program.h"
#include "trust/documents.h"

namespace hambrel::repo {

using test::goods;
using test::refusal;

TEST_F(Publishing, WhatIsPublishedIsWhatIsRefreshed) {
  put("lamp", "1-1");
  put("lamp", "2:1~rc1-1");
  test::write_file(directory / "repository.toml", "[[channel]]\nname = \"beta\"\npackages = [\"lamp >= 2:0\"]\n");
  EXPECT_EQ(publish().channels, (std::vector<std::string>{"beta", "stable"}));
  std::filesystem::create_directories(root / "var/cache/hambrel/index");
  const auto results = refresh();
  ASSERT_FALSE(results[0].problem) << results[0].problem->what();
  EXPECT_EQ(results[0].packages, 2U);
  const Catalog catalog = load_catalog(*os::open_file_system(root.text()),
                                       {{"base", "file://" + directory.text(), {"stable"}, true, 50, "", true}});
  EXPECT_TRUE(catalog.compiled);
  const Universe u(catalog.base, layer_of(compile_overlay(*catalog.base, {}, "")),
                   {{{"base", true, 50, {"stable"}}}, {}, {}});
  const auto all = u.all();
  ASSERT_EQ(all.size(), 2U);
  EXPECT_EQ(u.version(all[0]), "2:1~rc1-1");
  EXPECT_FALSE(u.offered(all[0]));
  EXPECT_TRUE(u.offered(all[1]));
}

TEST_F(Publishing, OldIndexesAreKeptForThoseInTheMiddleOfARefreshAndDroppedLater) {
  for (int i = 1; i <= 6; ++i) {
    put("p" + std::to_string(i), "1");
    EXPECT_EQ(publish().version, static_cast<std::uint64_t>(i));
    EXPECT_FALSE(publish().changed);
  }
  EXPECT_FALSE(std::filesystem::exists(directory / "index/full-3.jsonl.zst"));
  EXPECT_TRUE(std::filesystem::exists(directory / "index/full-4.jsonl.zst"));
  EXPECT_FALSE(std::filesystem::exists(directory / "trust/3.targets.json"));
}

TEST_F(Publishing, MistakesAreNamedAndNothingIsPublished) {
  EXPECT_EQ(refusal([&] { publish(); }), directory.text() + ": the directory packages/ is missing");
  put("lamp", "1-1", "packages/lamp/2-1.independent.hambrel");
  EXPECT_EQ(refusal([&] { publish(); }),
            directory.text() +
                "/packages/lamp/2-1.independent.hambrel: contains lamp 1-1 for independent, which belongs elsewhere");
  std::filesystem::remove(directory / "packages/lamp/2-1.independent.hambrel");
  test::write_file(directory / "packages/lamp/1-1.independent.hambrel", "no package");
  EXPECT_EQ(refusal([&] { publish(); }),
            directory.text() + "/packages/lamp/1-1.independent.hambrel: not a Hambrel package file: too short");
  std::filesystem::remove(directory / "packages/lamp/1-1.independent.hambrel");
  test::write_file(directory / "repository.toml", "[[channel]]\nname = \"Beta\"\n");
  EXPECT_EQ(refusal([&] { publish(); }),
            directory.text() + "/repository.toml:2: channel.name must be lower-case letters, digits and + . _ -");
  EXPECT_FALSE(std::filesystem::exists(directory / "trust"));
}

TEST_F(Publishing, ACachedIndexThatWasDamagedIsNotUsed) {
  put("lamp", "1-1");
  publish();
  std::filesystem::create_directories(root / "var/cache/hambrel/index");
  refresh();
  const std::string cached = root / ("var/cache/hambrel/index/" + cached_index());
  test::write_file(cached, test::read_file(cached) + "x");
  const Catalog catalog = load_catalog(*os::open_file_system(root.text()),
                                       {{"base", "file://" + directory.text(), {"stable"}, true, 50, "", true}}, false);
  EXPECT_EQ(catalog.base->size(), 0U);
  EXPECT_EQ(catalog.indexes[0].problem, cached + ": the cached index is damaged");
  test::write_file(directory / "trust/timestamp.json", "{}");
  EXPECT_EQ(refresh()[0].problem->problem(), "\"signed\" is missing (it must be a value)");
}

TEST_F(Publishing, ARefreshHealsWhateverIsDamagedInTheCache) {
  put("lamp", "1-1");
  publish();
  refresh();
  const auto packages = [&] {
    return load_catalog(*os::open_file_system(root.text()),
                        {{"base", "file://" + directory.text(), {"stable"}, true, 50, "", true}})
        .base->size();
  };
  const std::string cache = root / "var/cache/hambrel/index/";
  for (const std::string& file : {cached_index(), std::string("base/source.json"), std::string("_catalogue.image")}) {
    test::write_file(cache + file, "damaged");
    const auto results = refresh();
    EXPECT_FALSE(results[0].problem) << file << ": " << results[0].problem->what();
    EXPECT_EQ(packages(), 1U) << file;
    std::filesystem::remove(cache + file);
    EXPECT_FALSE(refresh()[0].problem) << file;
    EXPECT_EQ(packages(), 1U) << file << ", gone";
  }
  // an index that would be compiled again
  std::filesystem::remove(cache + "_catalogue.image");
  test::write_file(cache + cached_index(), "damaged");
  EXPECT_FALSE(refresh()[0].problem);
  EXPECT_EQ(packages(), 1U);
}

TEST_F(Publishing, ACacheOfAnOlderProgramIsUsedOn) {
  put("lamp", "1-1");
  publish();
  refresh();
  const std::string cache = root / "var/cache/hambrel/index/", before = cached_index();
  std::filesystem::rename(cache + before, cache + "base/index.jsonl.zst");
  EXPECT_FALSE(refresh()[0].changed);
  EXPECT_EQ(cached_index(), "base/index.jsonl.zst");
  put("mast", "1-1");
  publish();
  EXPECT_TRUE(refresh()[0].changed);
  EXPECT_NE(cached_index(), "base/index.jsonl.zst");
  EXPECT_FALSE(std::filesystem::exists(cache + "base/index.jsonl.zst")) << "one index is enough";
}

TEST_F(Publishing, WhatIsOlderThanWhatIsAtHandIsRefused) {
  put("lamp", "1-1");
  publish();
  const test::TempDir old;
  std::filesystem::copy(directory.path(), old.path() / "r", std::filesystem::copy_options::recursive);
  put("lamp", "2-1");
  publish();
  ASSERT_FALSE(refresh()[0].problem);
  std::filesystem::remove_all(directory.path());
  std::filesystem::copy(old.path() / "r", directory.path(), std::filesystem::copy_options::recursive);
  const auto result = refresh()[0];
  ASSERT_TRUE(result.problem);
  EXPECT_EQ(result.problem->code(), ErrorCode::Untrusted);
  EXPECT_EQ(result.problem->problem(), "timestamp 1 is older than number 2, which was already seen");
  EXPECT_EQ(result.version, 2U) << "the one at hand stays in use";
}

TEST_F(Publishing, NothingIsFetchedOrUnpackedThatIsBeyondTheLimits) {
  put("lamp", "1-1");
  publish();
  const auto problem = [&](const trust::Pointer& index) {
    const trust::Metadata made = trust::make_metadata(7, {index}, 1000);
    test::write_file(directory / made.targets_path, made.targets);
    test::write_file(directory / made.snapshot_path, made.snapshot);
    test::write_file(directory / "trust/timestamp.json", made.timestamp);
    return refresh()[0].problem->problem();
  };
  EXPECT_EQ(problem({"index/full-7.jsonl.zst", 7, 1ULL << 40, {}}),
            "lists an index of 1099511627776 bytes; at most 268435456 are accepted");
  const std::string bomb = archive::compress_frame(std::string(64 << 20, ' '), 1);
  test::write_file(directory / "index/full-7.jsonl.zst", bomb);
  EXPECT_THAT(problem({"index/full-7.jsonl.zst", 7, bomb.size(), sha256(bomb)}),
              testing::HasSubstr("a line is longer than"));
}

TEST_F(Publishing, LittleThatUnpacksToMuchIsGivenUpInTime) {
  const std::string bomb = archive::compress_frame(std::string(64 << 20, 'x'), 1);
  std::uint64_t seen = 0;
  const auto all = [&] {
    archive::decompress_in_pieces(bomb, archive::most_plain(bomb.size()), "here",
                                  [&](std::string_view piece) { seen += piece.size(); });
  };
  EXPECT_THAT(refusal(all), testing::HasSubstr("unpacks to more than"));
  EXPECT_LT(seen, 20ULL << 20);
}

TEST_F(Publishing, TwoRefreshesAtOnceBothEndWell) {
  put("lamp", "1-1");
  publish();
  std::vector<std::future<bool>> all;
  for (int i = 0; i < 4; ++i)
    all.push_back(std::async(std::launch::async, [&] { return !refresh()[0].problem.has_value(); }));
  for (auto& one : all) EXPECT_TRUE(one.get());
}

TEST_F(Publishing, FilesThatNobodyWouldFindAreNamed) {
  put("lamp", "1-1");
  put("horn", "1-1", "packages/horn-1-1.independent.hambrel");
  EXPECT_THAT(refusal([&] { publish(); }),
              testing::HasSubstr("packages/horn-1-1.independent.hambrel: is not in a package's directory"));
}

TEST_F(Publishing, AnIndexOfAnotherUrlIsWorthNothing) {
  put("lamp", "1-1");
  publish();
  std::filesystem::create_directories(root / "var/cache/hambrel/index");
  refresh();
  const Catalog catalog =
      load_catalog(*os::open_file_system(root.text()), {{"base", "file:///elsewhere", {"stable"}, true, 50}});
  EXPECT_EQ(catalog.indexes[0].problem, "not refreshed yet");
}

TEST_F(Publishing, AnIndexThatCannotBeCompiledIsNamedAndTheOthersAreUsed) {
  std::vector<IndexLine> lines(2000);
  for (std::size_t i = 0; i < lines.size(); ++i) {
    lines[i].package.name = "p" + std::to_string(i);
    lines[i].package.version = Version::parse("1").value();
    lines[i].package.arch = "a" + std::to_string(i);  // more than a layer can tell apart
    lines[i].channel = "stable";
    lines[i].size = 100;
    lines[i].table_offset = 50;
    lines[i].table_size = 20;
  }
  std::vector<IndexInput> inputs(2);
  inputs[0].repository = "bad";
  inputs[0].stored = archive::compress_frame(index_text(lines), 1);
  lines.resize(1);
  inputs[1].repository = "good";
  inputs[1].stored = archive::compress_frame(index_text(lines), 1);
  const auto layer = layer_of(compile_catalogue(*os::open_file_system(root.text()), inputs).joined());
  ASSERT_TRUE(inputs[0].problem);
  EXPECT_EQ(inputs[0].problem->problem(), "the indexes name more than 255 architectures");
  EXPECT_FALSE(inputs[1].problem);
  EXPECT_EQ(layer->size(), 1U);
}

std::string index_of(const std::string& name) {
  std::vector<IndexLine> lines(1);
  lines[0].package.name = name;
  lines[0].package.version = Version::parse("1").value();
  lines[0].package.arch = "x86_64";
  lines[0].channel = "stable";
  lines[0].size = 100;
  lines[0].table_offset = 50;
  lines[0].table_size = 20;
  return archive::compress_frame(index_text(lines), 1);
}

TEST_F(Publishing, OfCachedIndexesEachIsWhatWasVerifiedOrNamed) {
  std::vector<IndexInput> inputs;
  for (const std::string name : {"lamp", "swapped", "mast", "gone", "oil", "empty-delta"}) {
    IndexInput& one = inputs.emplace_back();
    one.repository = one.where = name;
    one.file = name;
    one.digest = one.base = sha256(index_of(name));
    if (name != "gone") test::write_file(root.path() / name, index_of(name == "swapped" ? "other" : name));
  }
  inputs.back().deltas.push_back({sha256("a delta"), "", "empty-delta.1"});
  test::write_file(root.path() / "empty-delta.1", "");
  const auto layer = layer_of(compile_catalogue(*os::open_file_system(root.text()), inputs).joined());
  EXPECT_EQ(layer->size(), 3U);
  for (const char* name : {"lamp", "mast", "oil"}) EXPECT_TRUE(layer->find_name(name)) << name;
  for (const IndexInput& one : inputs) {
    const std::string problem = one.problem ? one.problem->what() : "";
    if (one.repository == "gone")
      EXPECT_NE(problem.find("gone"), std::string::npos) << problem;
    else if (one.repository == "swapped" || one.repository == "empty-delta")
      EXPECT_EQ(problem, one.repository + ": the cached index is damaged");
    else
      EXPECT_EQ(problem, "");
  }
}

TEST_F(Publishing, AnIndexThatWasLetGoIsReadFromItsFileAndVerifiedWhereAnotherSpoilsTheImage) {
  const auto problems_where = [&](const std::string& what) {
    std::vector<IndexInput> inputs;
    for (const std::string name : {"lamp", "mast", "spoilt"}) {
      IndexInput& one = inputs.emplace_back();
      one.repository = one.where = one.file = name;
      one.stored = name == "spoilt" ? archive::compress_frame("{}\n", 1) : index_of(name);
      one.digest = one.base = sha256(one.stored);
    }
    const auto let_go = [&](IndexInput& one) {
      if (what == "full" && one.file == "mast") throw Error(ErrorCode::Io, "disk full");
      const std::string content = what == "swapped" && one.file == "mast" ? "other" : one.stored;
      if (!one.stored.empty()) test::write_file(root.path() / one.file, content);
      one.stored.clear();
    };
    const auto layer = layer_of(compile_catalogue(*os::open_file_system(root.text()), inputs, let_go).joined());
    std::string problems;
    for (const IndexInput& one : inputs)
      if (one.problem) problems += one.problem->what() + std::string("; ");
    EXPECT_TRUE(layer->find_name("lamp"));
    EXPECT_EQ(layer->find_name("mast").has_value(), what == "stored");
    return problems;
  };
  const std::string spoilt = "spoilt: line 1: \"name\" is missing (it must be a package name); ";
  EXPECT_EQ(problems_where("stored"), spoilt);
  EXPECT_EQ(problems_where("swapped"), "mast: the cached index is damaged; " + spoilt);
  EXPECT_EQ(problems_where("full"), "disk full; " + spoilt);
}

TEST_F(Publishing, ARelationThatIsNoneIsToldWithItsLineAndSpoilsNoOtherIndex) {
  std::vector<IndexLine> lines(2);
  for (std::size_t i = 0; i < lines.size(); ++i) {
    lines[i].package.name = i == 0 ? "lamp" : "mast";
    lines[i].package.version = Version::parse("1").value();
    lines[i].package.arch = "x86_64";
    lines[i].package.requires_ = {parse_relation("oil >= 2 | gas", "")};
    lines[i].package.provides = {parse_constraint("light = 1", "")};
    lines[i].channel = "stable";
    lines[i].size = 100;
    lines[i].table_offset = 50;
    lines[i].table_size = 20;
  }
  const std::string good = index_text(lines);
  const auto problem_with = [&](std::string_view what, std::string_view instead) {
    std::string bad = good;
    bad.replace(bad.rfind(what), what.size(), instead);  // in the second line
    std::vector<IndexInput> inputs(2);
    inputs[0].where = "near";
    inputs[0].repository = "near";
    inputs[0].stored = archive::compress_frame(bad, 1);
    inputs[1].where = "far";
    inputs[1].repository = "far";
    inputs[1].stored = archive::compress_frame(good, 1);
    const auto layer = layer_of(compile_catalogue(*os::open_file_system(root.text()), inputs).joined());
    EXPECT_EQ(layer->size(), 2U) << "of the other one";
    return inputs[0].problem ? std::string(inputs[0].problem->what()) : "";
  };
  EXPECT_EQ(problem_with("oil >= 2", "oil => 2"),
            "near: line 2: mast: \"oil => 2\" has no valid version after the operator");
  EXPECT_EQ(problem_with("light = 1", "light > 1"), "near: line 2: mast: \"provides\" must be NAME or NAME = VERSION");
  EXPECT_EQ(problem_with("[\"light = 1\"]", "[7]"), "near: line 2: mast: \"provides\" must be a list of texts");
}

}  // namespace hambrel::repo
