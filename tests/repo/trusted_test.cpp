// What is known of a signed repository, with the power lost anywhere.
#include "repo/trusted.h"

#include <gtest/gtest.h>

#include "base/json.h"
#include "support/crash_fs.h"
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

}  // namespace hambrel::repo
