#include "solve/explain.h"

#include <gtest/gtest.h>

#include <random>

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
