#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>
#include <tuple>

#include "base/error.h"
#include "txn/invariants.h"
#include "txn/rollback.h"
#include "txn/workshop.h"

namespace hambrel::txn {

using test::Goods;
using test::goods;
using test::Workshop;

namespace {

std::map<std::string, std::string> listing(const Workshop& shop) {
  return test::without_link_counts(test::without_directory_times(shop.files()));
}

}  // namespace

TEST(Rollback, GoesPastSeveralTransactionsInOneAndIsUndone) {
  Workshop shop;
  const auto one =
      goods("lamp", "1", {{"etc/lamp", "a"}, {"usr/lamp/x", "1"}, {"usr/lamp/same", "s"}, {"usr/l", "-> lamp/x"}});
  const auto two = goods("lamp", "2", {{"etc/lamp", "b"}, {"usr/lamp/x/now/deep", "2"}, {"usr/lamp/same", "s"}});
  const auto oil = goods("oil", "1", {{"usr/oil/can", "o"}, {"usr/oil/again", "= usr/oil/can"}});
  shop.change(*shop.fs, {&oil});
  const auto to = shop.change(*shop.fs, {&one});
  const auto then = test::without_link_counts(shop.files());
  shop.change(*shop.fs, {&two}, {"lamp"});
  shop.change(*shop.fs, {}, {"oil"});
  shop.change(*shop.fs, {}, {"lamp"});
  const auto now = shop.files();
  const auto id = shop.roll_back(*shop.fs, to);
  EXPECT_EQ(test::without_link_counts(shop.files()), then);
  EXPECT_EQ(shop.installed(), "lamp 1 oil 1 ");
  EXPECT_TRUE(broken_invariants(*shop.fs, *shop.state, std::nullopt).empty());
  EXPECT_TRUE(plan_rollback(*shop.fs, *shop.state, to, test::nowhere).plan.steps.empty());
  shop.undo(*shop.fs, id);
  EXPECT_EQ(shop.files(), now);
  EXPECT_EQ(shop.installed(), "");
}

TEST(Rollback, EditedConfigurationStaysAndWhatWentWithItsPackageComesBackEdited) {
  Workshop shop;
  const auto one = goods("lamp", "1", {{"etc/lamp", "pristine"}, {"etc/oil", "pristine"}});
  const auto two = goods("lamp", "2", {{"etc/lamp", "newer"}, {"etc/oil", "newer"}});
  const auto to = shop.change(*shop.fs, {&one});
  test::write_file(shop / "etc/lamp", "edited before");
  shop.change(*shop.fs, {&two}, {"lamp"});  // the new etc/lamp waits
  ASSERT_EQ(test::read_file(shop / "var/lib/hambrel/configs/waiting/etc/lamp"), "newer");
  shop.roll_back(*shop.fs, to);
  EXPECT_EQ(test::read_file(shop / "etc/lamp"), "edited before");
  EXPECT_EQ(test::read_file(shop / "etc/oil"), "pristine");
  EXPECT_FALSE(shop.fs->stat("var/lib/hambrel/configs/waiting/etc/lamp"));
  shop.undo(*shop.fs, shop.change(*shop.fs, {}, {"lamp"}));
  const auto gone = shop.state->next_id();
  ASSERT_EQ(test::read_file(shop / "etc/lamp"), "edited before");
  test::write_file(shop / "etc/oil", "edited since");
  shop.change(*shop.fs, {&two}, {"lamp"});
  const Planned back = plan_rollback(*shop.fs, *shop.state, state::TxnId{number(gone) - 1}, test::nowhere);
  ASSERT_FALSE(back.plan.notices.empty());
  EXPECT_EQ(back.plan.notices[0].text(), "/etc/lamp was edited: your version stays");
}

TEST(Undo, HeedsWhatWasDecidedBeforePlansHadRecordsOfTheirOwn) {
  Workshop shop;
  const auto one = goods("lamp", "1", {{"etc/lamp", "a"}}), two = goods("lamp", "2", {{"etc/lamp", "b"}});
  shop.change(*shop.fs, {&one});
  test::write_file(shop / "etc/lamp", "mine");
  shop.choices["etc/lamp"] = {plan::ConfigAction::Merge, "merged"};
  shop.record = [](const plan::Plan& plan) {  // as it was displayed then
    const plan::ConfigStep& step = plan.configs.at(0);
    return fmt::format(R"({{"configs":[{{"action":"merge","after":"{}","before":"{}","from":null,"leftover":false,)"
                       R"("package":"lamp","path":"/etc/lamp","text":"x"}}],"kind":"upgrade","steps":[]}})",
                       step.after->hex(), step.before->hex());
  };
  const auto merged = shop.change(*shop.fs, {&two}, {"lamp"});
  ASSERT_EQ(test::read_file(shop / "etc/lamp"), "merged");
  const Planned undo = plan_undo(*shop.fs, *shop.state, merged);
  ASSERT_EQ(undo.plan.configs.size(), 1U);
  EXPECT_EQ(undo.plan.configs[0].action, plan::ConfigAction::Restore);
  EXPECT_TRUE(undo.plan.notices.empty()) << "what was decided was not edited by hand";
  shop.undo(*shop.fs, merged);
  EXPECT_EQ(test::read_file(shop / "etc/lamp"), "mine");
}

TEST(Rollback, WhatTheAtticLostIsRefusedByName) {
  Workshop shop;
  const auto one = goods("lamp", "1", {{"usr/lamp/x", "1"}});
  const auto two = goods("lamp", "2", {{"usr/lamp/x", "2"}});
  const auto to = shop.change(*shop.fs, {&one});
  shop.change(*shop.fs, {&two}, {"lamp"});
  test::write_file(shop / "var/lib/hambrel/attic/2/tree/0/0", "?");
  const auto before = shop.files();
  try {
    std::ignore = plan_rollback(*shop.fs, *shop.state, to, test::nowhere);
    FAIL() << "it was not refused";
  } catch (const Error& error) {
    EXPECT_EQ(error.where(), "/usr/lamp/x");
    EXPECT_EQ(error.problem(), "the version of lamp 1 is not in the attic, the cache or a repository");
  }
  EXPECT_EQ(shop.files(), before);
}

TEST(Rollback, ToAnyPointOfAnyHistoryGivesTheListingOfThatPoint) {
  std::vector<Goods> shelf;
  for (int i = 0; i < 4; ++i)
    for (int version = 1; version < 4; ++version) {
      const std::string name = fmt::format("p{}", i), mark = fmt::format("{}-{}", i, version);
      std::vector<std::pair<std::string, std::string>> files{
          {"usr/share/both/" + name, mark}, {"usr/" + name + "/always", name}, {"etc/" + name, "conf " + mark}};
      if (version != 2) {
        files.push_back({"usr/" + name + "/odd", mark});
        files.push_back({"usr/" + name + "/link", "-> odd"});
      }
      if (version == 2) {
        files.push_back({"usr/" + name + "/odd/inner", mark});
        files.push_back({"usr/" + name + "/new/a", mark});
      }
      if (version == 3) files.push_back({"usr/" + name + "/twin", "= usr/" + name + "/odd"});
      shelf.push_back(goods(name, std::to_string(version), files));
    }
  std::mt19937 random(11);
  std::size_t rollbacks = 0;
  for (int history = 0; history < 12; ++history) {
    Workshop shop;
    std::map<std::int64_t, std::pair<std::map<std::string, std::string>, std::string>> past;
    for (int step = 0; step < 14; ++step) {
      const std::int64_t last = number(shop.state->next_id()) - 1;
      const auto what = random() % 6;
      if (last > 0 && what == 0 && !shop.state->undone_by(state::TxnId{last}) &&
          shop.state->ledger_entry(state::TxnId{last})->result == "done") {
        shop.undo(*shop.fs, state::TxnId{last});
      } else if (last > 1 && what <= 2) {
        const state::TxnId to{1 + static_cast<std::int64_t>(random() % static_cast<std::uint64_t>(last - 1))};
        if (plan_rollback(*shop.fs, *shop.state, to, test::nowhere).plan.steps.empty()) continue;
        shop.roll_back(*shop.fs, to);
        ++rollbacks;
        ASSERT_EQ(shop.installed(), past[number(to)].second) << "history " << history << " step " << step;
        ASSERT_EQ(listing(shop), past[number(to)].first)
            << "history " << history << " step " << step << " to " << number(to);
      } else {
        const Goods& one = shelf[random() % shelf.size()];
        std::vector<std::string> leaving;
        for (const auto& here : shop.state->installed())
          if (here.package.name == one.package.name) leaving.push_back(one.package.name);
        if (!leaving.empty() && random() % 3 == 0)
          shop.change(*shop.fs, {}, leaving);
        else
          shop.change(*shop.fs, {&one}, leaving);
      }
      past[number(shop.state->next_id()) - 1] = {listing(shop), shop.installed()};
      ASSERT_TRUE(broken_invariants(*shop.fs, *shop.state, std::nullopt).empty());
    }
  }
  std::cout << rollbacks << " rollbacks\n";
  EXPECT_GT(rollbacks, 20U);
}

}  // namespace hambrel::txn
