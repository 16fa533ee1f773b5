// The order of a transaction, watched from the file system: invariants I1, I2 and I6 of engine.h.
#include <gtest/gtest.h>

#include "support/fault_fs.h"
#include "txn/workshop.h"

namespace hambrel::txn {

using test::FaultFs;
using test::goods;
using test::Workshop;
using test::write_file;

namespace {

/// The calls of a transaction, with the names of its steps as "<step>" between them.
std::vector<std::string> calls_of(Workshop& shop, const std::function<void(Engine&)>& work) {
  FaultFs watched(*shop.fs, 0, FaultFs::Kind::Once);
  Environment environment = shop.environment(watched);
  environment.after_step = [&](txn::EngineStep now) {
    const std::string step(text_of(now));
    if (step != "synced") watched.calls.push_back("<" + step + ">");  // stands in the calls already
  };
  Engine engine(environment);
  work(engine);
  return watched.calls;
}

std::size_t at(const std::vector<std::string>& calls, const std::string& mark) {
  return static_cast<std::size_t>(std::find(calls.begin(), calls.end(), mark) - calls.begin());
}

std::vector<std::string> calls_of_upgrade(Workshop& shop, const test::Goods& old, const test::Goods& next,
                                          TreeChange& change) {
  shop.change(*shop.fs, {&old});
  change = shop.plan({&next}, {"p"});
  const auto leaving = shop.state->installed();
  state::PackageChange record;
  record.name = "p";
  record.before = leaving[0];
  record.before_row = leaving[0].row;
  record.after = state::StatePackage{0, next.package, Reason::Wanted, "test", {}, 0};
  Account account;
  account.kind = "test";
  Planned planned;
  planned.tree = change;
  planned.sources = {{next.package, next.reader.get()}};
  planned.changes = {record};
  return calls_of(shop, [&](Engine& engine) { engine.run(planned, account); });
}

bool is_own(const std::string& path) { return path.starts_with("var/lib/hambrel"); }

}  // namespace

TEST(Order, NothingButTheStageIsTouchedBeforeTheJournalAndNothingButRenamesAfterIt) {
  Workshop shop;
  write_file(shop / "usr/bin/mine", "");
  const auto old = goods("p", "1", {{"usr/bin/x", "1"}, {"usr/share/p/gone", "g"}});
  const auto next = goods("p", "2", {{"usr/bin/x", "2"}, {"usr/bin/y", "new"}});
  TreeChange change;
  const auto calls = calls_of_upgrade(shop, old, next, change);

  const std::size_t staged = at(calls, "<staged>"), journaled = at(calls, "<journaled>"),
                    switched = at(calls, "<switched>"), committed = at(calls, "<committed>"),
                    done = at(calls, "<done>");
  ASSERT_TRUE(staged < journaled && journaled < switched && switched < committed && committed < done &&
              done < calls.size());
  for (std::size_t i = 0; i < journaled; ++i) EXPECT_TRUE(is_own(calls[i]) || calls[i][0] == '<') << "I1: " << calls[i];
  EXPECT_EQ(calls[journaled - 1], "var/lib/hambrel") << "I2: the stage is synced last before the journal";
  std::size_t moves = 0;
  for (std::size_t i = journaled; i < switched; ++i) moves += calls[i] == "<moved>" ? 1U : 0U;
  EXPECT_EQ(moves, change.moves.size());
  EXPECT_EQ(switched - journaled - 1, 2 * moves + 1) << "I2, I3: one rename a move, then one sync";
  EXPECT_EQ(calls[switched - 1], "var/lib/hambrel") << "I2: the file system is synced before the commit";
  EXPECT_EQ(committed, switched + 1) << "nothing lies between the syncs and the commit";
  for (std::size_t i = committed; i < calls.size(); ++i)
    EXPECT_TRUE(is_own(calls[i]) || calls[i][0] == '<') << "I6: " << calls[i];
}

TEST(Order, TheSwitchSyncsTheDirectoriesThatItChangedAndNothingElse) {
  Workshop shop;
  const auto old = goods("p", "1", {{"usr/bin/x", "1"}, {"usr/lib/p/a", "a"}, {"usr/share/p/same", "s"}});
  const auto next = goods("p", "2", {{"usr/bin/x", "2"}, {"usr/lib/p/new/b", "b"}, {"usr/share/p/same", "s"}});
  TreeChange change;
  const auto calls = calls_of_upgrade(shop, old, next, change);
  const auto switched = calls.begin() + static_cast<std::ptrdiff_t>(at(calls, "<switched>"));
  const auto last_move = std::find(std::make_reverse_iterator(switched), calls.rend(), "<moved>").base();
  EXPECT_EQ(std::vector<std::string>(last_move, switched),
            (std::vector<std::string>{"usr/bin", "usr/lib/p", "var/lib/hambrel/stage/2/removed/0",
                                      "var/lib/hambrel/stage/2/tree/0"}));
}

TEST(Order, AWayThatLeadsElsewhereAfterTheSwitchIsNotFollowedToSync) {
  Workshop shop;
  std::filesystem::create_directories(shop / "usr/a");
  std::filesystem::create_symlink("a", shop / "usr/l");  // the administrator's
  const auto below = goods("below", "1", {{"usr/l/x", "x"}});
  const auto file = goods("file", "1", {{"usr/l", "a file now"}});
  shop.change(*shop.fs, {&below});
  ASSERT_TRUE(std::filesystem::exists(shop / "usr/a/x"));
  const auto id = shop.change(*shop.fs, {&file}, {"below"});
  EXPECT_EQ(test::read_file(shop / "usr/l"), "a file now");
  EXPECT_FALSE(std::filesystem::exists(shop / "usr/a/x"));
  shop.undo(*shop.fs, id);
  EXPECT_EQ(test::read_file(shop / "usr/l/x"), "x");
}

TEST(Order, AnUndoStagesNothingAndOnlyRenames) {
  Workshop shop;
  const auto one = goods("p", "1", {{"usr/bin/x", "1"}, {"usr/bin/y", "2"}});
  const auto id = shop.change(*shop.fs, {&one});
  Planned plan = plan_undo(*shop.fs, *shop.state, id);
  ASSERT_EQ(plan.moves.size(), 1U) << "a whole directory goes as it came";
  Account account;
  account.kind = "undo";
  const auto calls = calls_of(shop, [&](Engine& engine) { engine.run(plan, account); });
  EXPECT_EQ(at(calls, "<journaled>"), 1U) << "one sync before the journal, nothing else";
  EXPECT_EQ(at(calls, "<committed>"), 8U) << "a rename, the directory's time, both directories synced";
  for (std::size_t i = at(calls, "<committed>"); i < calls.size(); ++i)
    EXPECT_TRUE(is_own(calls[i]) || calls[i][0] == '<') << "I6: " << calls[i];
}

TEST(Order, WhatIsCarriedOutTakesNoMoreMemoryAndIsNotCarriedOutTwice) {
  Workshop shop;
  const auto one = goods("p", "1", {{"usr/bin/x", "1"}});
  const auto id = shop.change(*shop.fs, {&one});
  Planned plan = plan_undo(*shop.fs, *shop.state, id);
  Account account;
  account.kind = "undo";
  Engine engine(shop.environment(*shop.fs));
  engine.run(plan, account);
  EXPECT_EQ(plan.moves.capacity() + plan.tree.moves.capacity() + plan.tree.puts.capacity(), 0U);
  EXPECT_THROW(engine.run(plan, account), Error);
  EXPECT_FALSE(shop.state->journal());
}

}  // namespace hambrel::txn
