// Repositories that are signed, and what a root that trusts one makes of what comes.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <algorithm>

#include "base/json.h"
#include "repo/publishing.h"
#include "repo/trusted.h"
#include "trust/documents.h"

namespace hambrel::repo {

class SignedPublishing : public Publishing {
 protected:
  void SetUp() override {
    put("lamp", "1-1");
    for (const char* role : {"root", "timestamp", "snapshot", "targets"})
      all.emplace_back(std::string(role) + ".key", trust::PrivateKey::make());
  }
  PublishKeys keys_of(const std::vector<std::string>& roles) {
    PublishKeys keys;
    for (const auto& [name, key] : all)
      for (const std::string& role : roles)
        if (name == role + ".key") keys.ring.emplace_back(name, key);
    keys.where = "keys";
    return keys;
  }
  Published publish_as(const PublishKeys& keys, std::int64_t now = kThen) {
    return repo::publish(*os::open_file_system(directory.text()), now, silent, keys);
  }
  Published publish_with(const std::vector<std::string>& roles, bool first = false, std::int64_t now = kThen) {
    PublishKeys keys = keys_of(roles);
    keys.root.first = first;
    return publish_as(keys, now);
  }
  Published finish_with(const std::vector<std::string>& roles) {
    PublishKeys keys = keys_of(roles);
    keys.finish = true;
    return publish_as(keys);
  }
  /// As `key sign` does.
  void sign(const std::string& path, const std::string& role) {
    auto document = trust::SignedDocument::parse(file(path), "", path);
    for (const auto& [name, key] : all)
      if (name == role + ".key") document.sign(key);
    test::write_file(directory / path, document.text());
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

TEST_F(SignedPublishing, WithoutAllKeysItWaitsAndWhatIsServedStays) {
  publish_with(everything, true);
  put("mast", "1-1");
  const std::string before = file("trust/timestamp.json");
  const auto waits_for = [](const Published& published) {
    std::string text;
    for (const Unsigned& one : published.missing) text += one.file + " " + one.missing.role + " ";
    return text;
  };
  for (const std::vector<std::string>& at_hand : {std::vector<std::string>{}, {"timestamp", "snapshot"}}) {
    const Published waiting = publish_with(at_hand);
    EXPECT_EQ(waits_for(waiting), "trust/unfinished/2.targets.json targets ");
    EXPECT_EQ(waiting.version, 1U) << "is served";
    EXPECT_FALSE(waiting.changed);
  }
  EXPECT_EQ(file("trust/timestamp.json"), before);
  EXPECT_EQ(waits_for(finish_with({})), "trust/unfinished/2.targets.json targets ");
  // elsewhere, by whoever has the key
  sign("trust/unfinished/2.targets.json", "targets");
  put("oar", "1-1");  // what comes meanwhile is another index
  EXPECT_EQ(waits_for(finish_with({"snapshot"})), "trust/unfinished/timestamp.json timestamp ");
  EXPECT_EQ(file("trust/timestamp.json"), before);
  const Published finished = finish_with({"timestamp"});
  EXPECT_TRUE(finished.changed);
  EXPECT_EQ(finished.version, 2U);
  EXPECT_EQ(signature_problem(), "accepted");
  EXPECT_FALSE(std::filesystem::exists(directory / "trust/unfinished"));
  EXPECT_EQ(test::refusal([&] { finish_with({}); }), directory.text() + ": nothing waits for signatures");
}

TEST_F(SignedPublishing, ASignatureCountsAsLongAsTheSameIsToBeSigned) {
  publish_with(everything, true);
  put("mast", "1-1");
  publish_with({});
  sign("trust/unfinished/2.targets.json", "targets");
  EXPECT_TRUE(publish_with({"snapshot", "timestamp"}).changed) << "it has its signature already";
  put("oar", "1-1");
  publish_with({});
  sign("trust/unfinished/3.targets.json", "targets");
  put("sail", "1-1");
  EXPECT_FALSE(publish_with({"snapshot", "timestamp"}).changed) << "what was signed is not what is offered now";
}

TEST_F(SignedPublishing, HowLongDocumentsAreGoodIsSaidInTheRepositorysFileOrForOneTime) {
  const auto days = [&](const std::string& path) {
    return (trust::SignedDocument::parse(file(path), "", path).expires() - kThen) / trust::kDay;
  };
  test::write_file(directory / "repository.toml", "[expires]\nroot = 30\ntargets = 20\n");
  PublishKeys keys = keys_of(everything);
  keys.root.first = true;
  keys.validities[trust::Root::Of::Targets] = 10 * trust::kDay;
  publish_as(keys);
  EXPECT_EQ(days("trust/1.root.json"), 30);
  EXPECT_EQ(days("trust/1.targets.json"), 10);
  EXPECT_EQ(days("trust/1.snapshot.json"), 90);
  EXPECT_EQ(days("trust/timestamp.json"), 7);
  test::write_file(directory / "repository.toml", "[expires]\nroots = 30\n");
  EXPECT_EQ(problem_with(everything),
            (directory / "repository.toml").string() + ":2: unknown key \"roots\" in [expires]");
}

TEST_F(SignedPublishing, RenewingTheTimestampWaitsForNobodyElse) {
  publish_with(everything, true);
  put("mast", "1-1");
  publish_with({});
  PublishKeys keys = keys_of({"timestamp"});
  keys.renew = true;
  EXPECT_TRUE(publish_as(keys).renewed);
  keys.renew = false;
  keys.root.rotated = {trust::Root::Of::Timestamp};
  EXPECT_EQ(publish_as(keys).missing.front().file, "trust/unfinished/2.root.json");
  keys.root.rotated.clear();
  keys.renew = true;
  EXPECT_TRUE(publish_as(keys).renewed) << "a root that waits is in nobody's way";
  EXPECT_FALSE(std::filesystem::exists(directory / "trust/2.root.json"));
  EXPECT_EQ(signature_problem(), "accepted");
  EXPECT_TRUE(std::filesystem::exists(directory / "trust/unfinished/2.targets.json")) << "and neither is it in its";
}

TEST_F(SignedPublishing, WhatIsOldIsSignedAnewAndTheIndexStaysWhereItIs) {
  publish_with(everything, true);
  EXPECT_EQ(problem_with(everything, false, kThen + 366 * trust::kDay),
            (directory / "trust").string() + ": root 1 expired at 2026-06-15T15:06:40Z");
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
  EXPECT_FALSE(publish_with({"timestamp"}, false, kThen + 46 * trust::kDay).changed);
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
    const auto result = repo::refresh(*os::open_file_system(root.text()), network, base, base, now, silent)[0];
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
  EXPECT_EQ(outcome(), "is not signed by any of the timestamp keys");
  auto others = trust::SignedDocument::make(document.content());
  others.sign(all[0].second);  // the key of the root may not sign timestamps
  others.sign(trust::PrivateKey::make());
  test::write_file(directory / "trust/timestamp.json", others.text());
  EXPECT_EQ(outcome(), "is not signed by any of the timestamp keys");
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
  EXPECT_TRUE(repo::refresh(*os::open_file_system(root.text()), network, base, base, kThen, silent)[0].problem);
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
  EXPECT_EQ(outcome(), "") << "where the timestamp is the same, new roots are only asked for once a day";
  const std::int64_t then = kThen + trust::kDay;
  EXPECT_EQ(outcome(then), "is not signed by any of the root 1 keys");
  rotate("timestamp", fresh, {"root"}, 3);
  EXPECT_EQ(outcome(then), "is number 3 where 2 comes after 1");
  rotate("timestamp", fresh, {"root"});
  EXPECT_EQ(outcome(then), "is not signed by any of the timestamp keys") << "the old key counts no more";
  std::filesystem::remove(directory / "trust/2.root.json");
  EXPECT_EQ(outcome(then), "is not signed by any of the timestamp keys") << "who came so far does not go back";
  rotate("timestamp", fresh, {"root"});
  for (auto& [name, key] : all)
    if (name == "timestamp.key") key = fresh;
  publish_with({"timestamp"}, false, kThen + 1);
  EXPECT_EQ(outcome(then), "");
}

TEST_F(Verifying, KeysOfEachRoleAreExchangedAndWhoFollowsComesAlong) {
  for (const char* const role : {"timestamp", "targets", "root", "snapshot"}) {
    const auto old =
        std::find_if(all.begin(), all.end(), [&](const auto& one) { return one.first == role + std::string(".key"); });
    PublishKeys keys = keys_of({"root", "timestamp", "snapshot", "targets"});
    for (auto& [name, key] : keys.ring)
      if (name == old->first) name = "=old";  // signs what it has to, and is none of the new ones
    old->second = trust::PrivateKey::make();
    keys.ring.emplace_back(role + std::string(".key"), old->second);
    keys.root.rotated = {*trust::role_named(role)};
    const Published published = publish_as(keys);
    EXPECT_TRUE(published.missing.empty()) << role;
    EXPECT_EQ(outcome(), "") << role;
  }
  EXPECT_TRUE(std::filesystem::exists(directory / "trust/5.root.json"));
  put_new("mast");
  EXPECT_EQ(outcome(), "");
}

TEST_F(Verifying, SeveralMustSignWhereTheRootAsksForThem) {
  PublishKeys keys = keys_of(everything);
  keys.ring.emplace_back("targets2.key", trust::PrivateKey::make());
  keys.root.rotated = {trust::Root::Of::Targets};
  keys.root.thresholds = {{trust::Root::Of::Targets, 3}};
  EXPECT_EQ(test::refusal([&] { publish_as(keys); }), "targets has 2 keys: 3 of them can't sign");
  keys.root.thresholds = {{trust::Root::Of::Targets, 2}};
  EXPECT_TRUE(publish_as(keys).missing.empty());
  EXPECT_EQ(outcome(), "");
  put("mast", "1-1");
  const Published waiting = publish_with({"timestamp", "snapshot", "targets"});
  ASSERT_EQ(waiting.missing.size(), 1U);
  EXPECT_EQ(waiting.missing[0].missing.made, 1U);
  EXPECT_EQ(waiting.missing[0].missing.needed, 2U);
  EXPECT_EQ(outcome(), "") << "what is served stays";
  keys.root = {};
  EXPECT_TRUE(publish_as(keys).changed);
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
  EXPECT_EQ(outcome(), "is not signed by any of the timestamp keys") << "not signed anew yet";
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
  EXPECT_EQ(outcome(), "is not signed by any of the timestamp keys");
  trust_first();
  EXPECT_EQ(outcome().find("signed"), std::string::npos);
  TrustedRepository::forget(*os::open_file_system(root.text()), "base");
  EXPECT_FALSE(TrustedRepository::read(*os::open_file_system(root.text()), "base"));
}

}  // namespace hambrel::repo
