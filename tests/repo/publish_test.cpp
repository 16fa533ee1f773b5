#include "repo/publish.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <future>

#include "archive/frame_codec.h"
#include "base/json.h"
#include "repo/index.h"
#include "repo/refresh.h"
#include "repo/trusted.h"
#include "support/program.h"
#include "trust/documents.h"
#include "txn/workshop.h"

namespace hambrel::repo {

using test::goods;
using test::refusal;

namespace {

class Publishing : public testing::Test {
 protected:
  void put(const std::string& name, const std::string& version, const std::string& at = "") {
    const test::Goods made = goods(name, version, {{"usr/bin/" + name, version}});
    test::write_file(directory / (at.empty() ? package_path(made.package) : at), made.content);
  }
  Published publish() { return repo::publish(*os::open_file_system(directory.text()), 1'750'000'000, silent); }
  std::vector<RefreshResult> refresh() {
    const std::vector<settings::Repository> all{{"base", "file://" + directory.text(), {"stable"}, true, 50, "", true}};
    return repo::refresh(*os::open_file_system(root.text()), all, all, 2, 1000, silent);
  }
  test::TempDir directory, root;
  Observer silent;
};

}  // namespace

TEST_F(Publishing, WhatIsPublishedIsWhatIsRefreshed) {
  put("lamp", "1-1");
  put("lamp", "2:1~rc1-1");
  test::write_file(directory / "repository.toml", "[[channel]]\nname = \"beta\"\npackages = [\"lamp >= 2:0\"]\n");
  EXPECT_EQ(publish().channels, (std::vector<std::string>{"beta", "stable"}));
  std::filesystem::create_directories(root / "var/cache/hambrel/index");
  const auto results = refresh();
  ASSERT_FALSE(results[0].problem) << results[0].problem->what();
  EXPECT_EQ(results[0].packages, 2U);
  const Catalog catalog =
      load_catalog(*os::open_file_system(root.text()), {{"base", "file://" + directory.text(), {"stable"}, true, 50}});
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
  const std::string cached = root / "var/cache/hambrel/index/base/index.jsonl.zst";
  test::write_file(cached, test::read_file(cached) + "x");
  const Catalog catalog = load_catalog(*os::open_file_system(root.text()),
                                       {{"base", "file://" + directory.text(), {"stable"}, true, 50}}, false);
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
                        {{"base", "file://" + directory.text(), {"stable"}, true, 50}})
        .base->size();
  };
  const std::string cache = root / "var/cache/hambrel/index/";
  for (const std::string file : {"base/index.jsonl.zst", "base/source.json", "_catalogue.image"}) {
    test::write_file(cache + file, "damaged");
    const auto results = refresh();
    EXPECT_FALSE(results[0].problem) << file << ": " << results[0].problem->what();
    EXPECT_EQ(packages(), 1U) << file;
    std::filesystem::remove(cache + file);
    EXPECT_FALSE(refresh()[0].problem) << file;
    EXPECT_EQ(packages(), 1U) << file << ", gone";
  }
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

class SignedPublishing : public Publishing {
 protected:
  void SetUp() override {
    put("lamp", "1-1");
    for (const char* role : {"root", "timestamp", "snapshot", "targets"})
      all.emplace_back(std::string(role) + ".key", trust::PrivateKey::make());
  }
  Published publish_with(const std::vector<std::string>& roles, bool first = false, std::int64_t now = kThen) {
    PublishKeys keys;
    for (const auto& [name, key] : all)
      for (const std::string& role : roles)
        if (name == role + ".key") keys.ring.emplace_back(name, key);
    keys.where = "keys";
    keys.first = first;
    return repo::publish(*os::open_file_system(directory.text()), now, silent, keys);
  }
  std::string problem_with(const std::vector<std::string>& roles, bool first = false, std::int64_t now = kThen) {
    return test::refusal([&] { publish_with(roles, first, now); });
  }
  std::string file(const std::string& name) { return test::read_file(directory / name); }
  /// Are all documents signed as root 1 asks?
  std::string signature_problem() {
    return test::refusal([&] {
      const auto trusted = trust::Root::first(file("trust/1.root.json"), "root");
      trusted.verified(file("trust/timestamp.json"), trust::Root::Of::Timestamp, "timestamp");
      const auto snapshot = trust::read_pointer(file("trust/timestamp.json"), "timestamp", "timestamp");
      trust::check_content(file(snapshot.path), snapshot, "snapshot");
      trusted.verified(file(snapshot.path), trust::Root::Of::Snapshot, "snapshot");
      const auto targets = trust::read_pointer(file(snapshot.path), "snapshot", "snapshot");
      trust::check_content(file(targets.path), targets, "targets");
      trusted.verified(file(targets.path), trust::Root::Of::Targets, "targets");
    });
  }
  static constexpr std::int64_t kThen = 1'750'000'000;
  const std::vector<std::string> everything{"root", "timestamp", "snapshot", "targets"};
  trust::KeyRing all;
};

TEST_F(SignedPublishing, DocumentsAreSignedAsTheRootAsksFromItsFirstOnOn) {
  EXPECT_EQ(publish().root, 0U);
  EXPECT_EQ(problem_with(everything),
            directory.text() + ": there are keys, but no root document that says what each is for");
  EXPECT_EQ(problem_with({"root", "timestamp", "targets"}, true), "keys: there is no key for snapshot");
  EXPECT_FALSE(std::filesystem::exists(directory / "trust/1.root.json"));
  const Published first = publish_with(everything, true);
  EXPECT_EQ(first.root, 1U);
  EXPECT_EQ(first.version, 2U) << "the same index, in documents with signatures";
  EXPECT_EQ(signature_problem(), "accepted");
  EXPECT_NE(problem_with(everything, true), "accepted") << "a root is made once";
  put("mast", "1-1");
  EXPECT_TRUE(publish_with({"timestamp", "snapshot", "targets"}).changed) << "the key of the root stays in its safe";
  EXPECT_EQ(signature_problem(), "accepted");
}

TEST_F(SignedPublishing, WithoutTheKeysNothingIsPublished) {
  publish_with(everything, true);
  put("mast", "1-1");
  const std::string before = file("trust/timestamp.json");
  EXPECT_EQ(test::refusal([&] { publish(); }),
            directory.text() + ": this repository is signed, and no keys are at hand");
  EXPECT_EQ(problem_with({"timestamp", "snapshot"}), "targets needs 1 key, and none is at hand");
  EXPECT_EQ(problem_with({"timestamp", "targets"}), "snapshot needs 1 key, and none is at hand");
  EXPECT_EQ(
      problem_with(everything, false, kThen + 366 * trust::kDay),
      (directory / "trust/1.root.json").string() + ": expired at 2026-06-15T15:06:40Z (it is 2026-06-16T15:06:40Z)");
  EXPECT_EQ(file("trust/timestamp.json"), before);
  EXPECT_FALSE(std::filesystem::exists(directory / "index/full-2.jsonl.zst"));
}

TEST_F(SignedPublishing, WhatIsOldIsSignedAnewAndTheIndexStaysWhereItIs) {
  publish_with(everything, true);
  std::filesystem::create_directories(root / "var/cache/hambrel/index");
  EXPECT_TRUE(refresh()[0].changed);
  const auto number = [&] { return trust::version_of(file("trust/timestamp.json"), "t"); };
  EXPECT_FALSE(publish_with({"timestamp"}, false, kThen + 3 * trust::kDay).renewed);
  EXPECT_TRUE(publish_with({"timestamp"}, false, kThen + 4 * trust::kDay).renewed) << "half of its life is over";
  EXPECT_EQ(number(), 2U);
  EXPECT_EQ(signature_problem(), "accepted");
  // who has the index already need not fetch it for that
  std::filesystem::rename(directory / "index", directory / "gone");
  const auto again = refresh();
  EXPECT_FALSE(again[0].problem) << again[0].problem->what();
  EXPECT_FALSE(again[0].changed);
  std::filesystem::rename(directory / "gone", directory / "index");
  EXPECT_EQ(problem_with({"timestamp"}, false, kThen + 46 * trust::kDay), "targets needs 1 key, and none is at hand");
  const Published anew = publish_with({"timestamp", "snapshot", "targets"}, false, kThen + 46 * trust::kDay);
  EXPECT_TRUE(anew.changed);
  EXPECT_EQ(anew.version, 2U);
  EXPECT_EQ(number(), 3U);
  EXPECT_FALSE(refresh()[0].problem);
}

class Verifying : public SignedPublishing {
 protected:
  void SetUp() override {
    SignedPublishing::SetUp();
    publish_with(everything, true);
    std::filesystem::create_directories(root / "var/cache/hambrel/index");
    trust_first();
    ASSERT_EQ(outcome(), "");
  }
  void trust_first() {
    TrustedRepository::trust(*os::open_file_system(root.text()), "base",
                             trust::Root::first(file("trust/1.root.json"), "first"));
  }
  /// What a refresh says against the repository, without its place; nothing if all is well.
  std::string outcome(std::int64_t now = kThen) {
    const std::vector<settings::Repository> base{{"base", "file://" + directory.text(), {"stable"}, true, 50}};
    const auto result = repo::refresh(*os::open_file_system(root.text()), base, base, 2, now, silent)[0];
    EXPECT_NE(result.version, 0U) << "what was fetched before stays in use";
    if (!result.problem) return "";
    EXPECT_EQ(result.problem->code(), ErrorCode::Untrusted);
    EXPECT_NE(result.problem->hint(), "");
    return result.problem->problem();
  }
  void put_new(const std::string& name) {
    put(name, "1-1");
    publish_with({"timestamp", "snapshot", "targets"});
  }
  /// Root 2, with another key for one role, signed by some of the keys.
  void rotate(const std::string& role, const trust::PrivateKey& to, const std::vector<std::string>& signers,
              std::uint64_t version = 2) {
    Json content = parse_json(file("trust/1.root.json"), "").at("signed");
    content["version"] = version;
    content["keys"][to.public_key().id()] = to.public_key().document();
    content["roles"][role]["keyids"] = {to.public_key().id()};
    auto document = trust::SignedDocument::make(content);
    for (const auto& [name, key] : all)
      for (const std::string& signer : signers)
        if (name == signer + ".key") document.sign(key);
    test::write_file(directory / "trust/2.root.json", document.text());
  }
};

TEST_F(Verifying, WhatSomebodyElseSignedOrNobodyIsRefused) {
  const std::string good = file("trust/timestamp.json");
  auto document = trust::SignedDocument::parse(good, "timestamp", "");
  Json unsigned_one = parse_json(good, "");
  unsigned_one["signatures"] = Json::array();
  test::write_file(directory / "trust/timestamp.json", unsigned_one.dump());
  EXPECT_EQ(outcome(), "is signed by none of the keys of timestamp");
  auto others = trust::SignedDocument::make(document.content());
  others.sign(all[0].second);  // the key of the root may not sign timestamps
  others.sign(trust::PrivateKey::make());
  test::write_file(directory / "trust/timestamp.json", others.text());
  EXPECT_EQ(outcome(), "is signed by none of the keys of timestamp");
  test::write_file(directory / "trust/timestamp.json", good);
  EXPECT_EQ(outcome(), "");
}

TEST_F(Verifying, NothingOlderComesBackAndNothingIsMixed) {
  const std::string old = file("trust/timestamp.json"), old_snapshot = file("trust/1.snapshot.json");
  put_new("mast");
  const std::string good = file("trust/timestamp.json"), good_snapshot = file("trust/2.snapshot.json");
  test::write_file(directory / "trust/2.snapshot.json", old_snapshot);
  EXPECT_NE(outcome().find("is not what the repository describes"), std::string::npos);
  test::write_file(directory / "trust/2.snapshot.json", good_snapshot);
  EXPECT_EQ(outcome(), "");
  test::write_file(directory / "trust/timestamp.json", old);
  EXPECT_EQ(outcome(), "timestamp 1 is older than number 2, which was already seen");
  // not even where the cache is gone: what was seen is kept apart from it
  std::filesystem::remove_all(root / "var/cache/hambrel");
  std::filesystem::create_directories(root / "var/cache/hambrel/index");
  const std::vector<settings::Repository> base{{"base", "file://" + directory.text(), {"stable"}, true, 50}};
  EXPECT_TRUE(repo::refresh(*os::open_file_system(root.text()), base, base, 2, kThen, silent)[0].problem);
  test::write_file(directory / "trust/timestamp.json", good);
  EXPECT_EQ(outcome(), "");
}

TEST_F(Verifying, WhatIsHeldBackExpiresWhateverTheClockSays) {
  EXPECT_EQ(outcome(kThen + 6 * trust::kDay), "");
  EXPECT_EQ(outcome(kThen + 7 * trust::kDay), "expired at 2025-06-22T15:06:40Z (it is 2025-06-22T15:06:40Z)");
  publish_with({"timestamp"}, false, kThen + 8 * trust::kDay);
  EXPECT_EQ(outcome(kThen + 14 * trust::kDay), "");
  // a clock that was put back makes nothing fresh again
  const std::string fresh = file("trust/timestamp.json");
  publish_with({"timestamp"}, false, kThen + 16 * trust::kDay);
  EXPECT_EQ(outcome(kThen + 22 * trust::kDay), "");
  const std::int64_t back = kThen;
  EXPECT_EQ(outcome(back), "");
  std::filesystem::remove_all(root / "var/lib/hambrel/trust/base");
  test::write_file(directory / "trust/timestamp.json", fresh);
  EXPECT_EQ(outcome(kThen + 22 * trust::kDay), "expired at 2025-06-30T15:06:40Z (it is 2025-07-07T15:06:40Z)");
}

TEST_F(Verifying, ARootIsFollowedOnlyAlongItsChain) {
  const trust::PrivateKey fresh = trust::PrivateKey::make();
  rotate("timestamp", fresh, {"timestamp", "targets"});
  EXPECT_EQ(outcome(), "is signed by none of the keys of root 1");
  rotate("timestamp", fresh, {"root"}, 3);
  EXPECT_EQ(outcome(), "is number 3 where 2 comes after 1");
  rotate("timestamp", fresh, {"root"});
  EXPECT_EQ(outcome(), "is signed by none of the keys of timestamp") << "the old key counts no more";
  std::filesystem::remove(directory / "trust/2.root.json");
  EXPECT_EQ(outcome(), "is signed by none of the keys of timestamp") << "who came so far does not go back";
  rotate("timestamp", fresh, {"root"});
  for (auto& [name, key] : all)
    if (name == "timestamp.key") key = fresh;
  publish_with({"timestamp"}, false, kThen + 1);
  EXPECT_EQ(outcome(), "");
}

TEST_F(Verifying, ExchangedKeysTakeBackWhatWasSignedFarAhead) {
  // whoever got the key of the timestamps gave one a number that nothing comes after
  auto content = parse_json(file("trust/timestamp.json"), "").at("signed");
  content["version"] = 1'000'000'000;
  auto ahead = trust::SignedDocument::make(content);
  for (const auto& [name, key] : all)
    if (name == "timestamp.key") ahead.sign(key);
  const std::string good = file("trust/timestamp.json");
  test::write_file(directory / "trust/timestamp.json", ahead.text());
  EXPECT_EQ(outcome(), "");
  test::write_file(directory / "trust/timestamp.json", good);
  EXPECT_EQ(outcome(), "timestamp 1 is older than number 1000000000, which was already seen");
  const trust::PrivateKey fresh = trust::PrivateKey::make();
  rotate("timestamp", fresh, {"root"});
  EXPECT_NE(outcome(kThen + 3000 * trust::kDay), "") << "a clock that is wrong by years, which is not remembered";
  EXPECT_EQ(outcome(), "is signed by none of the keys of timestamp") << "not signed anew yet";
  for (auto& [name, key] : all)
    if (name == "timestamp.key") key = fresh;
  publish_with({"timestamp"}, false, kThen + 1);
  EXPECT_EQ(outcome(), "");
}

TEST_F(Verifying, WhoTrustsAnewBeginsAnew) {
  put_new("mast");
  EXPECT_EQ(outcome(), "");
  // the maintainer lost all keys and made the repository anew
  std::filesystem::remove_all(directory / "trust");
  for (auto& [name, key] : all) key = trust::PrivateKey::make();
  publish_with(everything, true);
  EXPECT_EQ(outcome(), "is signed by none of the keys of timestamp");
  trust_first();
  EXPECT_EQ(outcome().find("signed"), std::string::npos);
  TrustedRepository::forget(*os::open_file_system(root.text()), "base");
  EXPECT_FALSE(TrustedRepository::read(*os::open_file_system(root.text()), "base"));
}

TEST_F(Publishing, AnIndexThatCannotBeCompiledIsNamedAndTheOthersAreUsed) {
  std::vector<IndexLine> lines(2000);
  for (std::size_t i = 0; i < lines.size(); ++i) {
    lines[i].package.name = "p" + std::to_string(i);
    lines[i].package.version = Version::parse("1").value();
    lines[i].package.arch = "a" + std::to_string(i);  // more than a layer can tell apart
    lines[i].channel = "stable";
    lines[i].size = 100, lines[i].table_offset = 50, lines[i].table_size = 20;
  }
  std::vector<IndexInput> inputs(2);
  inputs[0].repository = "bad", inputs[0].stored = archive::compress_frame(index_text(lines), 1);
  lines.resize(1);
  inputs[1].repository = "good", inputs[1].stored = archive::compress_frame(index_text(lines), 1);
  const auto layer = layer_of(compile_catalogue(*os::open_file_system(root.text()), inputs));
  ASSERT_TRUE(inputs[0].problem);
  EXPECT_EQ(inputs[0].problem->problem(), "the indexes name more than 255 architectures");
  EXPECT_FALSE(inputs[1].problem);
  EXPECT_EQ(layer->size(), 1U);
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
    lines[i].size = 100, lines[i].table_offset = 50, lines[i].table_size = 20;
  }
  const std::string good = index_text(lines);
  const auto problem_with = [&](std::string_view what, std::string_view instead) {
    std::string bad = good;
    bad.replace(bad.rfind(what), what.size(), instead);  // in the second line
    std::vector<IndexInput> inputs(2);
    inputs[0].where = "near", inputs[0].repository = "near", inputs[0].stored = archive::compress_frame(bad, 1);
    inputs[1].where = "far", inputs[1].repository = "far", inputs[1].stored = archive::compress_frame(good, 1);
    const auto layer = layer_of(compile_catalogue(*os::open_file_system(root.text()), inputs));
    EXPECT_EQ(layer->size(), 2U) << "of the other one";
    return inputs[0].problem ? std::string(inputs[0].problem->what()) : "";
  };
  EXPECT_EQ(problem_with("oil >= 2", "oil => 2"),
            "near: line 2: mast: \"oil => 2\" has no valid version after the operator");
  EXPECT_EQ(problem_with("light = 1", "light > 1"), "near: line 2: mast: \"provides\" must be NAME or NAME = VERSION");
  EXPECT_EQ(problem_with("[\"light = 1\"]", "[7]"), "near: line 2: mast: \"provides\" must be a list of texts");
}

}  // namespace hambrel::repo
