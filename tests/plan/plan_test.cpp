#include "plan/plan.h"

#include <gtest/gtest.h>

#include "solve/solver.h"
#include "solve/universe_text.h"

namespace hambrel::plan {

namespace {

std::string told(const Universe& u, const solve::Request& request) {
  const auto result = solve::solve(u, request);
  std::string text;
  for (const Step& step : make_plan(u, request, std::get<solve::Selection>(result)).steps)
    text += std::string(text_of(step.action)) + " " + step.name + " " + step.before + ">" + step.after + ": " +
            step.why.text() + " [" + std::string(text_of(step.reason)) + "]\n";
  return text;
}

solve::Request install(const Universe& u, const std::string& name) {
  solve::Request request;
  request.install.push_back({name, u.matching(parse_constraint(name, ""))});
  return request;
}

}  // namespace

TEST(Plan, EveryStepSaysWhyAndComesAfterWhatItRequires) {
  const Universe u = test::universe(
      "desk 2\n    requires lib >= 1\n    recommends fonts\nlib 1\n    requires core\ncore 1\nfonts 1\n");
  EXPECT_EQ(told(u, install(u, "desk")),
            "install core >1: lib requires core [pulled-in]\ninstall lib >1: desk requires lib >= 1 [pulled-in]\n"
            "install desk >2: asked for [wanted]\ninstall fonts >1: desk recommends fonts [pulled-in]\n");
}

TEST(Plan, TheReasonIsTheOneThatAPersonWouldName) {
  const Universe plainest =
      test::universe("desk 2\n    requires lib < 3\n    requires lib >= 1\n    requires lib != 9\nlib 1\n");
  EXPECT_EQ(told(plainest, install(plainest, "desk")),
            "install lib >1: desk requires lib >= 1 [pulled-in]\ninstall desk >2: asked for [wanted]\n");
  const Universe asked =
      test::universe("desk 2\n    requires also\n    requires lib >= 1\nalso 1\n    requires lib\nlib 1\n");
  EXPECT_EQ(told(asked, install(asked, "desk")),
            "install lib >1: desk requires lib >= 1 [pulled-in]\ninstall also >1: desk requires also [pulled-in]\n"
            "install desk >2: asked for [wanted]\n");
}

TEST(Plan, AskingForAPulledInPackageOnlyMakesItWanted) {
  const Universe u = test::universe("*desk 1\n    requires lib\n+lib 1\n");
  EXPECT_EQ(told(u, install(u, "lib")), "want lib 1>1: asked for [wanted]\n");
}

TEST(Plan, RemovalsAndReplacementsSayWhy) {
  const Universe u = test::universe("*lamp 1\n+helper 1\n    requires lamp\nlampdesk 5\n    replaces lamp\n");
  solve::Request upgrade;
  upgrade.upgrade_all = true;
  EXPECT_EQ(told(u, upgrade),
            "install lampdesk >5: replaces lamp [wanted]\nremove helper 1>: requires lamp, which is being removed "
            "[pulled-in]\n"
            "remove lamp 1>: replaced by lampdesk [wanted]\n");
}

TEST(Plan, TheCheckerFindsEachKindOfProblem) {
  const Universe u =
      test::universe("a 1\n    requires b >= 2\nb 1\n    conflicts c\nc 1\n    provides v = 1\n    replaces b\n");
  EXPECT_EQ(problems_of(u, u.all()),
            (std::vector<std::string>{"a 1 requires b >= 2", "b 1 conflicts with c 1", "c 1 replaces b 1"}));
}

}  // namespace hambrel::plan
