// Every changing operation of a transaction fails in turn; the root is as before, or as planned, and state and disk
// agree.
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "os/host.h"
#include "support/fault_fs.h"
#include "txn/invariants.h"
#include "txn/workshop.h"

namespace hambrel::txn {

using test::FaultFs;
using test::goods;
using test::Goods;
using test::without_directory_times;
using test::without_link_counts;
using test::Workshop;
using test::write_file;

namespace {

/// What is installed on scenes, packed once.
struct Shelf {
  Goods lib1 =
      goods("lib", "1",
            {{"usr/lib/l", "one"}, {"usr/share/l/a/b", "deep"}, {"usr/lib/h1", "h"}, {"usr/lib/h2", "= usr/lib/h1"}});
  Goods lib2 = goods("lib", "2",
                     {{"usr/lib/l", "two"},
                      {"usr/share/l/a", "a file now"},
                      {"usr/lib/n/new", "n"},
                      {"usr/lib/h1", "H"},
                      {"usr/lib/h2", "= usr/lib/h1"}});
  Goods desk = goods("desk", "1", {{"usr/bin/desk", "d"}, {"etc/desk", "c\n"}, {"usr/bin/link", "-> desk"}});
};
const Shelf& shelf() {
  static const Shelf made;
  return made;
}

/// A root with two packages and some files of nobody's, and the four kinds of transaction on it.
struct Scene {
  Workshop shop;
  Scene() {
    write_file(shop / "usr/bin/mine", "mine");
    write_file(shop / "etc/desk.d/mine", "mine");
    test::set_times(shop / "usr", 1'600'000'000);
    test::set_times(shop / "etc", 1'600'000'000);
  }
};

using Work = std::function<void(Scene&, os::FileSystem&)>;

/// Raises N until the work runs untouched. After each fault: recovery on a sound file system, then exactly the tree and
/// the set before, or exactly those after. Returns the number of cases.
int for_each_fault(const Work& prepare, const Work& work, FaultFs::Kind kind, int error_number,
                   bool links_count = true) {
  const auto files_of = [&](const Scene& scene) {
    return links_count ? scene.shop.files() : without_link_counts(scene.shop.files());
  };
  Scene reference;
  prepare(reference, *reference.shop.fs);
  work(reference, *reference.shop.fs);
  const auto after = without_directory_times(files_of(reference));
  const std::string set_after = reference.shop.installed();

  Scene scene;
  prepare(scene, *scene.shop.fs);
  const auto before = files_of(scene);
  const std::string set_before = scene.shop.installed();
  for (std::uint64_t n = 1;; ++n) {
    FaultFs faulty(*scene.shop.fs, n, kind, error_number);
    bool failed = false;
    try {
      work(scene, faulty);
    } catch (const Error& error) {
      failed = true;
      EXPECT_NE(std::string(error.what()).find("injected fault"), std::string::npos) << error.what();
      EXPECT_EQ(scene.shop.installed(), set_before) << "what was committed must not be told as failed";
    }
    if (!faulty.hit()) {
      EXPECT_FALSE(failed);
      EXPECT_EQ(without_directory_times(files_of(scene)), after);
      EXPECT_EQ(scene.shop.installed(), set_after);
      return static_cast<int>(n) - 1;
    }
    if (kind == FaultFs::Kind::Once && failed && !scene.shop.state->journal() && scene.shop.installed() == set_before) {
      EXPECT_EQ(files_of(scene), before) << "fault " << n << ": what failed must have been taken back at once";
    }
    scene.shop.recover(*scene.shop.fs);
    EXPECT_FALSE(scene.shop.state->journal());
    if (scene.shop.installed() == set_before) {
      EXPECT_EQ(files_of(scene), before) << "fault " << n;
      EXPECT_TRUE(!scene.shop.fs->stat(kStage) || scene.shop.fs->list(kStage).empty());
      continue;
    }
    // the fault came after the commit: as planned, and it can still be undone to the byte
    EXPECT_EQ(scene.shop.installed(), set_after) << "fault " << n;
    EXPECT_EQ(without_directory_times(files_of(scene)), after) << "fault " << n;
    const auto last = scene.shop.state->ledger(1).at(0).id;
    scene.shop.undo(*scene.shop.fs, last);
    EXPECT_EQ(files_of(scene), before) << "fault " << n << ", undone";
    EXPECT_EQ(scene.shop.installed(), set_before);
    if (testing::Test::HasFailure()) return -1;
  }
}

void install_old(Scene& scene, os::FileSystem& files) { scene.shop.change(files, {&shelf().lib1, &shelf().desk}); }
void upgrade(Scene& scene, os::FileSystem& files) { scene.shop.change(files, {&shelf().lib2}, {"lib"}); }
void remove(Scene& scene, os::FileSystem& files) { scene.shop.change(files, {}, {"lib", "desk"}); }
void shelve(Scene& scene, os::FileSystem& files) { scene.shop.shelve(files, {"lib", "desk"}); }
void take_back_last(Scene& scene, os::FileSystem& files) {
  scene.shop.undo(files, scene.shop.state->ledger(1).at(0).id);
}
void nothing(Scene&, os::FileSystem&) {}

/// With a program of a package that writes these files meanwhile.
Work while_it_writes(const Work& work, const std::string& content) {
  return [=](Scene& scene, os::FileSystem& files) {
    os::sleep_milliseconds(10);  // what was put in place a tick of the clock ago may have been changed meanwhile
    scene.shop.program = {{"var/made/index", content}, {"var/made/deep/" + content, content}};
    try {
      work(scene, files);
    } catch (...) {
      scene.shop.program.clear();
      throw;
    }
    scene.shop.program.clear();
  };
}

struct Named {
  const char* name;
  Work prepare, work;
  bool links_count = true;  // what comes back from the attic by a link has one name more
};

const std::vector<Named>& changes() {
  static const std::vector<Named> all{
      {"install", nothing, install_old},
      {"upgrade", install_old, upgrade},
      {"upgrade with a hook", while_it_writes(install_old, "old"), while_it_writes(upgrade, "new")},
      {"remove", install_old, remove},
      {"shelve", install_old, shelve},
      {"coming unshelved",
       [](Scene& s, os::FileSystem& f) {
         install_old(s, f);
         shelve(s, f);
       },
       [](Scene& s, os::FileSystem& f) { s.shop.roll_back(f, state::TxnId{1}); }, false},
      {"rollback",
       [](Scene& s, os::FileSystem& f) {
         install_old(s, f);
         upgrade(s, f);
         remove(s, f);
       },
       [](Scene& s, os::FileSystem& f) { s.shop.roll_back(f, state::TxnId{1}); }, false}};
  return all;
}

const std::vector<Named>& undos() {
  static const std::vector<Named> all{{"undo of an upgrade",
                                       [](Scene& s, os::FileSystem& f) {
                                         install_old(s, f);
                                         upgrade(s, f);
                                       },
                                       take_back_last},
                                      {"undo of a removal",
                                       [](Scene& s, os::FileSystem& f) {
                                         install_old(s, f);
                                         remove(s, f);
                                       },
                                       take_back_last},
                                      {"undo of an installation", install_old, take_back_last}};
  return all;
}

}  // namespace

namespace {

/// Every change with every fault of a kind; prints how many cases that were.
void all_changes(FaultFs::Kind kind, const std::vector<int>& error_numbers, const char* name) {
  int cases = 0;
  for (const Named& one : changes())
    for (const int error_number : error_numbers) {
      SCOPED_TRACE(one.name);
      const int count = for_each_fault(one.prepare, one.work, kind, error_number, one.links_count);
      ASSERT_GT(count, 10);
      cases += count;
    }
  std::printf("%d %s cases\n", cases, name);
}

}  // namespace

TEST(Fault, AnOperationThatFailsOnceIsTakenBackAtOnce) { all_changes(FaultFs::Kind::Once, {EIO, ENOSPC}, "fault"); }

TEST(Fault, FromAnyOperationOnNothingWorksAndTheNextStartMakesItWhole) {
  all_changes(FaultFs::Kind::ForGood, {EIO}, "crash");
}

TEST(Fault, WhatCouldNotBeWrittenBackIsNoticedBeforeTheJournal) {
  for (const Named& one : {changes()[0], changes()[1]}) {
    SCOPED_TRACE(one.name);
    EXPECT_GT(for_each_fault(one.prepare, one.work, FaultFs::Kind::Late, EIO, one.links_count), 2);
  }
}

TEST(Fault, AnExceptionOfAnyTypeTakesTheSwitchBack) {
  for (const std::string at : {"staged", "journaled", "moved", "switched"}) {
    Scene scene;
    install_old(scene, *scene.shop.fs);
    const auto before = scene.shop.files();
    scene.shop.after_step = [&](txn::EngineStep now) {
      const std::string step(text_of(now));
      if (step == at) throw std::runtime_error("not one of ours");
    };
    EXPECT_THROW(upgrade(scene, *scene.shop.fs), Error) << at;
    scene.shop.after_step = [](txn::EngineStep) {};
    EXPECT_EQ(scene.shop.files(), before) << at;
    EXPECT_FALSE(scene.shop.state->journal()) << at;
    EXPECT_EQ(scene.shop.state->ledger(1).at(0).result, "failed") << at;
    upgrade(scene, *scene.shop.fs);
    EXPECT_EQ(scene.shop.installed(), "desk 1 lib 2 ");
  }
}

TEST(Fault, WhatSomebodyPutsInTheWayOfTakingBackIsNotFollowedAndNoneOfTheRestIsLost) {
  if (geteuid() != 0) GTEST_SKIP() << "another user's link needs root to be made";
  Workshop shop;
  const auto one = test::goods("one", "1", {{"srv/d/x", "1"}, {"srv/e/x", "1"}});
  const auto two = test::goods("one", "2", {{"srv/d/x", "2"}, {"srv/e/x", "2"}});
  shop.change(*shop.fs, {&one});
  std::filesystem::create_directories(shop / "elsewhere");
  test::write_file(shop / "elsewhere/x", "not theirs");
  ASSERT_EQ(::lchown((shop / "srv").c_str(), 7, 7), 0);
  shop.after_step = [&](txn::EngineStep now) {
    const std::string step(text_of(now));
    if (step != "switched") return;
    std::filesystem::rename(shop / "srv/d", shop / "srv/away");
    std::filesystem::create_directory_symlink("../elsewhere", shop / "srv/d");
    ASSERT_EQ(::lchown((shop / "srv/d").c_str(), 7, 7), 0);
    throw std::runtime_error("stop here");
  };
  const std::string told = test::refusal([&] { shop.change(*shop.fs, {&two}, {"one"}); });
  shop.after_step = [](txn::EngineStep) {};
  EXPECT_EQ(test::read_file(shop / "elsewhere/x"), "not theirs");
  EXPECT_EQ(test::read_file(shop / "srv/e/x"), "1") << "taken back all the same";
  EXPECT_EQ(shop.installed(), "one 1 ");
  EXPECT_FALSE(shop.state->journal()) << "it stands in no one's way for ever";
  EXPECT_EQ(shop.state->ledger(1).at(0).result, "failed") << told;
}

TEST(Fault, AnUndoThatFailsAnywhereIsTakenBack) {
  int cases = 0;
  for (const Named& one : undos())
    for (const auto kind : {FaultFs::Kind::Once, FaultFs::Kind::ForGood}) {
      SCOPED_TRACE(one.name);
      for (std::uint64_t n = 1;; ++n) {
        Scene scene;
        one.prepare(scene, *scene.shop.fs);
        const auto before = scene.shop.files();
        const std::string set_before = scene.shop.installed();
        const auto last = scene.shop.state->ledger(1).at(0).id;
        FaultFs faulty(*scene.shop.fs, n, kind);
        try {
          scene.shop.undo(faulty, last);
        } catch (const Error&) {  // judged by what is on the disk
        }
        if (!faulty.hit()) break;
        scene.shop.recover(*scene.shop.fs);
        ++cases;
        if (scene.shop.installed() == set_before) {
          ASSERT_EQ(scene.shop.files(), before) << "fault " << n;
        } else {
          take_back_last(scene, *scene.shop.fs);  // it had been committed: and back again
        }
        ASSERT_EQ(without_directory_times(scene.shop.files()), without_directory_times(before)) << "fault " << n;
        ASSERT_EQ(scene.shop.installed(), set_before);
      }
    }
  EXPECT_GT(cases, 60);
  std::printf("%d cases\n", cases);
}

TEST(Fault, WhatOthersDoToTheRootMeanwhileIsNoMistakeOfTheProgram) {
  int cases = 0, refused = 0;
  const std::vector<std::string> victims{"usr/lib/l", "usr/lib/h2", "usr/share/l/a", "etc/desk", "usr/bin/link"};
  std::vector<Named> works(changes().begin() + 1, changes().end());
  works.insert(works.end(), undos().begin(), undos().end());
  for (const Named& one : works)
    for (const std::string& victim : victims)
      for (const bool replaced : {false, true})
        for (std::uint64_t n = 1;; n += 9) {
          SCOPED_TRACE(
              fmt::format("{}: /{} {} before operation {}", one.name, victim, replaced ? "replaced" : "removed", n));
          Scene scene;
          one.prepare(scene, *scene.shop.fs);
          const std::string before = scene.shop.installed();
          FaultFs watched(*scene.shop.fs, 0, FaultFs::Kind::Once);
          watched.before_step = [&](std::uint64_t now) {
            if (now != n) return;
            std::filesystem::remove_all(scene.shop / victim);
            if (replaced && std::filesystem::exists((scene.shop / victim).parent_path()))
              write_file(scene.shop / victim, "somebody's");
          };
          bool done = true;
          try {
            one.work(scene, watched);
          } catch (const Error& problem) {
            done = false;
            EXPECT_NE(problem.code(), ErrorCode::Internal) << problem.what();
            scene.shop.recover(*scene.shop.fs);
          }
          EXPECT_FALSE(scene.shop.state->journal());
          EXPECT_EQ(scene.shop.installed() == before, !done);
          EXPECT_THAT(broken_invariants(*scene.shop.fs, *scene.shop.state, std::nullopt), testing::IsEmpty());
          ASSERT_FALSE(testing::Test::HasFailure());
          ++cases;
          refused += done ? 0 : 1;
          if (watched.operations() < n) break;
        }
  EXPECT_GT(refused, 50);
  std::printf("%d cases, %d of them refused\n", cases, refused);
}

TEST(Fault, RecoveryMayItselfBeInterruptedAnywhere) {
  int cases = 0;
  for (std::uint64_t n = 1;; n += 2) {
    Scene probe;
    install_old(probe, *probe.shop.fs);
    FaultFs faulty(*probe.shop.fs, n, FaultFs::Kind::ForGood);
    try {
      upgrade(probe, faulty);
    } catch (const Error&) {  // that is the first crash
    }
    if (!faulty.hit()) break;
    if (!probe.shop.state->journal()) continue;
    for (std::uint64_t m = 1;; ++m) {
      Scene scene;
      install_old(scene, *scene.shop.fs);
      const auto before = scene.shop.files();
      FaultFs first(*scene.shop.fs, n, FaultFs::Kind::ForGood), second(*scene.shop.fs, m, FaultFs::Kind::ForGood);
      try {
        upgrade(scene, first);
      } catch (const Error&) {  // the first crash again
      }
      try {
        scene.shop.recover(second);
      } catch (const Error&) {  // the second, inside recovery
      }
      scene.shop.recover(*scene.shop.fs);
      ++cases;
      ASSERT_EQ(scene.shop.files(), before) << "faults " << n << " and " << m;
      ASSERT_EQ(scene.shop.installed(), "desk 1 lib 1 ");
      if (!second.hit()) break;
    }
  }
  EXPECT_GT(cases, 50);
  std::printf("%d double cases\n", cases);
}

}  // namespace hambrel::txn
