#include "solve/explain.h"

#include <gtest/gtest.h>

#include <memory>
#include <random>

#include "plan/plan.h"
#include "solve/random_question.h"
#include "solve/selecting.h"

namespace hambrel::solve {

namespace {

/// The same universe for two architectures: some packages are there for both of them, some for one.
std::string for_two_architectures(const std::vector<std::string>& lines, std::mt19937& random) {
  std::string text;
  for (std::size_t i = 0; i < lines.size();) {
    std::string relations;
    const std::string& title = lines[i++];
    while (i < lines.size() && lines[i][0] == ' ') relations += lines[i++] + "\n";
    const unsigned roll = static_cast<unsigned>(random() % 4);
    if (roll != 0) text += title + "\n    arch x86_64\n" + relations;
    if (roll != 1) text += title + "\n    arch armv7l\n" + relations;
  }
  return text;
}

}  // namespace

TEST(Explainer, ALikeRequestIsAnsweredAsIfItWereTheFirst) {
  std::mt19937 random(17);
  int found = 0, none = 0, taken = 0;
  for (int round = 0; round < 4000; ++round) {
    const test::Question question = test::random_question(random);
    const bool is_two = random() % 2 == 0;
    const std::string text = is_two ? for_two_architectures(question.universe, random) : join(question.universe, "\n");
    const Universe u =
        test::universe(text, is_two ? std::vector<std::string>{"x86_64", "armv7l"} : std::vector<std::string>{});
    Request request = test::request(u, question.request);
    if (request.upgrade_all || !request.upgrade.empty()) continue;
    if (is_two && random() % 2 == 0) request.arch = "armv7l";
    Request other = request;
    const bool is_wide = random() % 2 == 0;
    if (is_wide) request.channels.emplace("beta");
    for (const PackageId id : u.installed()) {
      if (random() % 3 == 0) other.remove.emplace(u.name(id));
      if (random() % 3 == 0) other.release.emplace(u.name(id));
    }
    const Explainer explainer(u, request);
    for (const PackageId id : u.all())
      if (is_wide && !u.offered(id) && explainer.reaches(id) && random() % 3 == 0) {
        other.install.push_back({std::string(u.name(id)), {id}});
        ++taken;
      }
    Encoding encoding = explainer.with(other);
    const auto derived = find_selection(encoding);
    const auto anew = find_selection(u, other).selection;
    ASSERT_EQ(derived.has_value(), anew.has_value()) << text;
    ++(derived ? found : none);
    if (!derived) continue;
    ASSERT_EQ(derived->chosen, anew->chosen) << text;
    for (std::size_t i = 0; i < derived->levels.size(); ++i)
      ASSERT_EQ(derived->levels[i].value, anew->levels[i].value) << text_of(derived->levels[i].level) << "\n" << text;
  }
  EXPECT_GT(found, 1000);
  EXPECT_GT(none, 100);
  EXPECT_GT(taken, 100);
}

// In a large root other threads look ahead, at what the levels ask and at what remedies will.
TEST(Explainer, WhatHasNothingToDoWithARequestChangesNothing) {
  std::string others;
  for (int i = 0; i < 600; ++i) others += "\n*other-" + std::to_string(i) + " 1";
  std::mt19937 random(23);
  int upgrades = 0, changes = 0, held_back = 0, given_up = 0;
  for (int round = 0; round < 900; ++round) {
    const test::Question question = test::random_question(random);
    const std::string text = join(question.universe, "\n");
    const Universe small = test::universe(text), large = test::universe(text + others);
    const Request of_small = test::request(small, question.request), of_large = test::request(large, question.request);
    const Outcome a = find_selection(small, of_small), b = find_selection(large, of_large);
    ASSERT_EQ(a.selection.has_value(), b.selection.has_value()) << question.text();
    if (a.selection) {
      std::vector<std::string> chosen, of_those;
      for (const PackageId id : a.selection->chosen) chosen.push_back(small.package(id).title());
      for (const PackageId id : b.selection->chosen)
        if (!large.name(id).starts_with("other-")) of_those.push_back(large.package(id).title());
      ASSERT_EQ(chosen, of_those) << question.text();
      for (std::size_t i = 0; i < a.selection->levels.size(); ++i)
        ASSERT_EQ(a.selection->levels[i].value, b.selection->levels[i].value) << question.text();
      const auto of_a = plan::make_checked_plan(small, of_small, *a.selection);
      const auto of_b = plan::make_checked_plan(large, of_large, *b.selection);
      ASSERT_TRUE(of_b.problems == of_a.problems && of_a.problems.empty()) << question.text();
      ASSERT_EQ(of_a.plan.held_back.size(), of_b.plan.held_back.size()) << question.text();
      for (std::size_t i = 0; i < of_a.plan.held_back.size(); ++i)
        ASSERT_EQ(of_a.plan.held_back[i].why, of_b.plan.held_back[i].why) << question.text();
      held_back += !of_small.is_upgrade() ? static_cast<int>(of_b.plan.held_back.size()) : 0;
      ++(of_small.is_upgrade() ? upgrades : changes);
    } else if (a.why_not) {
      EXPECT_TRUE(b.why_not->explain().decided) << question.text();
      const auto few = a.why_not->fewest(Cause::Kind::Wanted, ""), same = b.why_not->fewest(Cause::Kind::Wanted, "");
      ASSERT_EQ(few.has_value(), same.has_value()) << question.text();
      if (!few) continue;
      ASSERT_EQ(few->size(), same->size()) << question.text();
      ++given_up;
    }
  }
  EXPECT_GT(upgrades, 30);
  EXPECT_GT(changes, 100);
  EXPECT_GT(held_back, 0);  // by requests that do more than to upgrade; see the next, too
  EXPECT_GT(given_up, 20);
}

TEST(Explainer, WhatIsHeldBackBesideAnInstallInALargeRootHasItsReason) {
  std::string text = "*old 1\nold 2\n    requires missing\nnew 1\n";
  for (int i = 0; i < 600; ++i) text += "*other-" + std::to_string(i) + " 1\n";
  const Universe u = test::universe(text);
  const Request request = test::request(u, {"upgrade old", "install new"});
  const Outcome outcome = find_selection(u, request);
  ASSERT_TRUE(outcome.selection);
  const auto [plan, problems] = plan::make_checked_plan(u, request, *outcome.selection);
  EXPECT_TRUE(problems.empty());
  ASSERT_EQ(plan.held_back.size(), 1U);
  EXPECT_NE(plan.held_back.front().why.find("missing"), std::string::npos) << plan.held_back.front().why;
}

TEST(Explainer, TheRequestMayBeGoneWhenItIsAsked) {
  const Universe u =
      test::universe("*old 1\nnew 1\n    conflicts old\n    from !repo/beta 50\nnew 2\n    conflicts old\n");
  auto request = std::make_unique<Request>(test::request(u, {"install new"}));
  const Request same = *request;
  const auto outcome = find_selection(u, *request);
  *request = {};
  request.reset();
  ASSERT_TRUE(outcome.why_not);
  EXPECT_EQ(outcome.why_not->explain().causes.size(), 3U);
  EXPECT_EQ(outcome.why_not->fewest(Cause::Kind::Wanted, ""), std::vector<std::string>{"old"});
  Request without = same;
  without.remove.insert("old");
  Encoding encoding = outcome.why_not->with(without);
  ASSERT_TRUE(find_selection(encoding));
  EXPECT_EQ(u.package(find_selection(encoding)->chosen.front()).title(), "new 2");
}

TEST(Explainer, OfSeveralReasonsAShortOneIsTold) {
  // one wanted package is in the way by many conflicts, the other one by a chain
  std::string text = "+chain 1\n+end 1\n    requires chain\n+link 1\n    requires end\n*narrow 1\n    requires link\n";
  std::string any, conflicts;
  for (int i = 1; i < 9; ++i) {
    const std::string name = "other-" + std::to_string(i);
    text += "+" + name + " 1\n";
    conflicts += "    conflicts " + name + "\n";
    any += (any.empty() ? "" : " | ") + name;
  }
  text += "*broad 1\n    requires " + any + "\nnew 1\n" + conflicts + "    conflicts chain\n";
  const Universe u = test::universe(text);
  const Request request = test::request(u, {"install new"});
  const auto outcome = find_selection(u, request);
  ASSERT_TRUE(outcome.why_not);
  EXPECT_LE(outcome.why_not->explain().causes.size(), 6U);
}

}  // namespace hambrel::solve
