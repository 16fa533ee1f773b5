// What is known of a signed repository, with the power lost anywhere, and with a disk that fails.
#include "repo/trusted.h"

#include <gtest/gtest.h>

#include "base/json.h"
#include "repo/advisory_index.h"
#include "repo/publishing.h"
#include "support/crash_fs.h"
#include "support/fault_fs.h"
#include "trust/signing.h"

namespace hambrel::repo {

using test::CrashFs;

namespace {

trust::KeyRing new_keys() {
  trust::KeyRing ring;
  for (const char* role : {"root", "timestamp", "snapshot", "targets"})
    ring.emplace_back(role, trust::PrivateKey::make());
  return ring;
}

/// Root 2, which exchanges nothing.
std::string second_root(const trust::Root& first, const trust::KeyRing& ring) {
  Json content = first.document().content();
  content["version"] = 2;
  auto document = trust::SignedDocument::make(content);
  document.sign(ring[0].second);
  return document.text();
}

std::string signed_root(const trust::KeyRing& ring) {
  auto document = trust::make_first_root(ring, 0, "keys");
  for (const auto& [name, key] : ring)
    if (name.starts_with("root")) document.sign(key);
  return document.text();
}

/// Loses the power at each operation of some work in turn, and looks at what a reader finds then.
void with_power_lost(const CrashFs& ready, const std::function<void(os::FileSystem&)>& work,
                     const std::function<void(os::FileSystem&)>& look) {
  for (std::uint64_t at = 1;; ++at)
    for (const auto loss :
         {CrashFs::Loss::Nothing, CrashFs::Loss::Everything, CrashFs::Loss::Content, CrashFs::Loss::Some}) {
      CrashFs disk(ready);
      disk.crash_at(at);
      try {
        work(disk);
      } catch (const Error&) {  // the power is gone
      }
      const bool ended = !disk.crashed();
      disk.reboot(loss, at);
      look(disk);
      if (ended) {
        EXPECT_GT(at, 3U);
        return;
      }
    }
}

}  // namespace

TEST(Trusted, WithThePowerLostItIsTheOldOrTheNewNeverNone) {
  const trust::KeyRing keys = new_keys(), others = new_keys();
  const auto first = trust::Root::first(signed_root(keys), "1");
  const auto anew = trust::Root::first(signed_root(others), "1");
  CrashFs ready;
  TrustedRepository::trust(ready, "base", first);
  auto trusted = TrustedRepository::read(ready, "base");
  ASSERT_TRUE(trusted);
  trusted->store(ready, 1000);
  ready.sync_all("");

  with_power_lost(
      ready,
      [&](os::FileSystem& disk) {
        auto one = TrustedRepository::read(disk, "base");
        one->advance(second_root(first, keys), "2");
        one->store(disk, 2000);
      },
      [&](os::FileSystem& disk) {
        const auto found = TrustedRepository::read(disk, "base");
        ASSERT_TRUE(found);
        EXPECT_TRUE(found->root().version() == 1 || found->root().version() == 2);
      });
  with_power_lost(
      ready, [&](os::FileSystem& disk) { TrustedRepository::trust(disk, "base", anew); },
      [&](os::FileSystem& disk) {
        const auto found = TrustedRepository::read(disk, "base");
        ASSERT_TRUE(found) << "a repository that was verified is never taken unverified";
        EXPECT_TRUE(found->root().document().fingerprint() == first.document().fingerprint() ||
                    found->root().document().fingerprint() == anew.document().fingerprint());
      });
}

/// A root that has refreshed from a signed repository, which goes on to other keys and another index then.
class TrustedRefresh : public Publishing {
 protected:
  void SetUp() override {
    put("lamp", "1-1");
    advise("SKERRY-1");
    publish_signed(true);
  }
  /// One more.
  void advise(const std::string& id) {
    test::write_file(directory / ("advisories/" + id + ".json"),
                     R"({"id": ")" + id + R"(", "modified": "x", "affected": [
                         {"package": {"ecosystem": "Hambrel", "name": "lamp"}, "versions": ["1-1"]}]})");
  }
  void publish_signed(bool first) {
    PublishKeys how;
    how.ring = keys;
    how.root.first = first;
    if (!first) how.root.rotated = {trust::Root::Of::Timestamp};
    repo::publish(*os::open_file_system(directory.text()), 1000, silent, how);
  }
  void begin(os::FileSystem& disk) {
    const std::string text = test::read_file(directory / "trust/1.root.json");
    TrustedRepository::trust(disk, "base", trust::Root::first(text, "1"));
    ASSERT_FALSE(refresh_on(disk)) << refresh_on(disk)->what();
    put("mast", "1-1");
    advise("SKERRY-2");
    for (auto& [name, key] : keys)
      if (name == "timestamp") key = trust::PrivateKey::make();
    publish_signed(false);
  }
  std::optional<Error> refresh_on(os::FileSystem& disk) {
    return repo::refresh(disk, network, all, all, 1000, silent)[0].problem;
  }
  /// What is used is one or the other, verified, and no older than what is remembered as seen; a further refresh comes
  /// to the new one.
  void look(os::FileSystem& disk) {
    const auto trusted = TrustedRepository::read(disk, "base");
    ASSERT_TRUE(trusted);
    const Catalog catalog = load_catalog(disk, all);
    const CachedIndex& index = catalog.indexes.at(0);
    EXPECT_EQ(index.problem, "");
    EXPECT_NE(index.root, 0U);
    EXPECT_EQ(catalog.base->size(), index.version) << "number 1 has one package, number 2 two";
    EXPECT_EQ(AdvisoryIndex::open(disk, all[0])->about("lamp").size(), index.version) << "and as many advisories";
    // exchanged keys take back what the old ones had signed; else nothing older than what is used is accepted again
    const bool exchanged = trusted->root().version() > index.root;
    EXPECT_TRUE(exchanged || trusted->seen(trust::Root::Of::Targets).version >= index.version);
    EXPECT_GE(trusted->root().version(), index.root);
    const auto problem = refresh_on(disk);
    EXPECT_FALSE(problem) << problem->what();
    EXPECT_EQ(load_catalog(disk, all).base->size(), 2U);
    EXPECT_EQ(AdvisoryIndex::open(disk, all[0])->about("lamp").size(), 2U);
    EXPECT_EQ(TrustedRepository::read(disk, "base")->root().version(), 2U);
  }
  trust::KeyRing keys = new_keys();
  const std::vector<settings::Repository> all{{"base", "file://" + directory.text()}};
};

TEST_F(TrustedRefresh, WithThePowerLostItIsTheOldOrTheNewNeverMixedAndNeverOlder) {
  CrashFs ready;
  ready.make_directories("var/cache/hambrel");
  ready.make_directories("etc/hambrel");
  begin(ready);
  ready.sync_all("");
  with_power_lost(
      ready, [&](os::FileSystem& disk) { refresh_on(disk); }, [&](os::FileSystem& disk) { look(disk); });
}

TEST_F(TrustedRefresh, WithADiskThatFailsItIsTheOldOrTheNew) {
  begin(*os::open_file_system(root.text()));
  const test::TempDir kept;
  std::filesystem::copy(root.path(), kept / "root", std::filesystem::copy_options::recursive);
  for (const auto kind : {test::FaultFs::Kind::Once, test::FaultFs::Kind::ForGood})
    for (std::uint64_t at = 1;; ++at) {
      std::filesystem::remove_all(root.path());
      std::filesystem::copy(kept / "root", root.path(), std::filesystem::copy_options::recursive);
      const auto real = os::open_file_system(root.text());
      test::FaultFs failing(*real, at, kind, ENOSPC);
      try {
        refresh_on(failing);
      } catch (const Error&) {  // told
      }
      look(*os::open_file_system(root.text()));
      if (!failing.hit()) {
        EXPECT_GT(at, 10U);
        break;
      }
    }
}

TEST_F(TrustedRefresh, PublishingWithThePowerLostServesWholeDocumentsAndGoesOn) {
  CrashFs ready;
  const test::Goods lamp = test::goods("lamp", "1-1", {{"usr/bin/lamp", "1"}});
  const test::Goods mast = test::goods("mast", "1-1", {{"usr/bin/mast", "1"}});
  const auto add = [](os::FileSystem& disk, const test::Goods& goods) {
    const std::string path = package_path(goods.package);
    disk.make_directories(os::parent_of(path));
    disk.replace_file(path, goods.content, 0644);
  };
  PublishKeys how;
  how.ring = keys;
  how.root.first = true;
  add(ready, lamp);
  repo::publish(ready, 1000, silent, how);
  add(ready, mast);
  ready.replace_file("news.toml", "[[news]]\ndate = \"2026-11-20\"\ntitle = \"t\"\n", 0644);
  ready.sync_all("");
  how.root = {};
  how.root.rotated = {trust::Root::Of::Targets};
  how.ring.emplace_back("targets-b", trust::PrivateKey::make());
  PublishKeys again = how;
  again.root = {};
  with_power_lost(
      ready, [&](os::FileSystem& disk) { repo::publish(disk, 1000, silent, how); },
      [&](os::FileSystem& disk) {
        const auto served = served_documents(disk);
        ASSERT_TRUE(served) << "each names the next, and all are there";
        EXPECT_EQ(disk.digest(served->indexes.full.path), served->indexes.full.digest);
        EXPECT_EQ(served->indexes.news.has_value(), served->indexes.full.version == 2);
        if (served->indexes.news) {
          EXPECT_EQ(disk.digest(served->indexes.news->path), served->indexes.news->digest);
        }
        repo::publish(disk, 1000, silent, again);
        const auto now = served_documents(disk);
        EXPECT_EQ(now->indexes.full.version, 2U);
        ASSERT_TRUE(now->indexes.news);
        EXPECT_EQ(disk.digest(now->indexes.news->path), now->indexes.news->digest);
        const std::string newest = disk.stat("trust/2.root.json") ? "trust/2.root.json" : "trust/1.root.json";
        const auto newest_root = trust::Root::known(disk.read_all(newest, 1 << 20), newest);
        newest_root.verified(now->targets, trust::Root::Of::Targets, "targets");
        newest_root.verified(now->timestamp, trust::Root::Of::Timestamp, "timestamp");
        EXPECT_EQ(disk.digest(now->indexes.full.path), now->indexes.full.digest);
      });
}

}  // namespace hambrel::repo
