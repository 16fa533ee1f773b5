#include "plan/plan_record.h"

#include <gtest/gtest.h>

#include <random>

#include "base/error.h"

namespace hambrel::plan {

namespace {

/// A plan in which everything may stand, by chance.
class RandomPlan {
 public:
  explicit RandomPlan(unsigned seed) : random_(seed) {}

  Plan make() {
    Plan plan;
    plan.kind = text();
    plan.proved = flag();
    for (std::size_t i = below(4); i > 0; --i) plan.steps.push_back(step());
    for (std::size_t i = below(4); i > 0; --i) plan.configs.push_back(config());
    for (std::size_t i = below(4); i > 0; --i)
      plan.notices.push_back({kind(Notice::Kind::DirectoryLower), text(), text()});
    for (std::size_t i = below(3); i > 0; --i)
      plan.held_back.push_back({text(), text(), text(), {}, text(), flag(), text(), text(), below(9)});
    for (std::size_t i = below(3); i > 0; --i) plan.unneeded.push_back(text());
    if (flag()) plan.without_strays = Plan::WithoutStrays{below(9), {text(), text()}};
    return plan;
  }

 private:
  std::size_t below(std::size_t end) { return random_() % end; }
  bool flag() { return below(2) == 1; }
  std::string text() {
    static const std::string kAll[] = {"", "lampdesk", "5.4-1", "etc/a b", "\"configs\":[", "\xC3\xA4", "\n\t\\"};
    return kAll[below(std::size(kAll))];
  }
  template <typename Kind>
  Kind kind(Kind last) {
    return static_cast<Kind>(below(static_cast<std::size_t>(last) + 1));
  }
  Step step() {
    Step step;
    step.action = kind(Action::Release);
    step.name = text();
    step.arch = text();
    step.before = text();
    step.after = text();
    step.why = {kind(WhyKind::OldInConflict), text(), text()};
    step.origin = text();
    step.reason = kind(Reason::PulledIn);
    step.download = random_();
    step.size_change = -static_cast<std::int64_t>(random_());
    step.held = flag();
    return step;
  }
  ConfigStep config() {
    ConfigStep step{kind(ConfigAction::Ask), text(), text(), text()};
    if (flag()) step.before = sha256("before");
    if (flag()) step.after = sha256("after");
    step.leftover = flag();
    return step;
  }

  std::mt19937 random_;
};

}  // namespace

TEST(PlanRecord, NothingOfAPlanIsLost) {
  for (unsigned seed = 0; seed < 500; ++seed) {
    const Plan plan = RandomPlan(seed).make();
    const std::string record = record_of(plan);
    const Plan again = plan_of(record);
    ASSERT_EQ(record_of(again), record) << seed;
    ASSERT_EQ(again.steps.size(), plan.steps.size());
    for (std::size_t i = 0; i < plan.steps.size(); ++i) {
      EXPECT_EQ(again.steps[i].why.text(), plan.steps[i].why.text());
      EXPECT_EQ(again.steps[i].size_change, plan.steps[i].size_change);
    }
    const auto decided = decisions_of(record);
    ASSERT_EQ(decided.size(), plan.configs.size()) << record;
    for (std::size_t i = 0; i < decided.size(); ++i) {
      EXPECT_EQ(decided[i].action, plan.configs[i].action);
      EXPECT_EQ(decided[i].path, plan.configs[i].path);
      EXPECT_EQ(decided[i].after, plan.configs[i].after);
    }
  }
}

TEST(PlanRecord, WhatProgramsBeforeItKeptIsRead) {
  const Plan plan = plan_of(
      R"({"configs":[{"action":"merge","after":"2b894ba1b379acf8fd7f62ddb15fcb3646bbf635a5f9bb938d663c1a0ef00b19",)"
      R"("before":null,"from":"/etc/old","leftover":false,"package":"gauge","path":"/etc/gauge","text":"x"}],"kind":"install",)"
      R"("notices":[{"kind":"given-up","package":"3","path":"2, 3","text":"x"}],"proved":true,"steps":[{"action":"upgrade",)"
      R"("after":"2-1","arch":"any","before":"1-1","download":7,"held":false,"name":"gauge","origin":"base","reason":"pulled-in",)"
      R"("size_change":-3,"why":{"kind":"required","by":"desk","relation":"gauge >= 2","text":"x"}}],"unneeded":["lamp"]})");
  EXPECT_EQ(plan.kind, "install");
  ASSERT_EQ(plan.configs.size(), 1U);
  EXPECT_EQ(plan.configs[0].action, ConfigAction::Merge);
  EXPECT_EQ(plan.configs[0].from, "etc/old");
  EXPECT_TRUE(plan.configs[0].after);
  EXPECT_FALSE(plan.configs[0].before);
  EXPECT_EQ(plan.notices.at(0).path, "2, 3");
  ASSERT_EQ(plan.steps.size(), 1U);
  EXPECT_EQ(plan.steps[0].why.text(), "desk requires gauge >= 2");
  EXPECT_EQ(plan.steps[0].reason, Reason::PulledIn);
  EXPECT_EQ(plan.unneeded.at(0), "lamp");
  EXPECT_TRUE(plan_of("").empty());
  EXPECT_TRUE(plan_of(R"({"kind":"rebuild","installed":[]})").empty()) << "that was no plan";
}

TEST(PlanRecord, ADamagedOneIsAnErrorOfItsOwn) {
  for (const char* const bad :
       {"{", "7x", R"({"format":9,"kind":""})", R"({"format":1})", R"({"format":1,"kind":"x","steps":[[99]]})",
        R"({"format":1,"kind":"x","configs":[[0]]})", R"({"format":1,"kind":"x","notices":[[0,1,2]]})"}) {
    try {
      std::ignore = plan_of(bad);
      ADD_FAILURE() << bad;
    } catch (const Error& problem) {
      EXPECT_EQ(problem.code(), ErrorCode::Untrusted) << bad;
    }
  }
}

}  // namespace hambrel::plan
