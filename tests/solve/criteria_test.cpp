// The order of the criteria, told as small stories: in each, two of them pull in different directions.
#include <gtest/gtest.h>

#include "plan/plan.h"
#include "plan/remedies.h"
#include "solve/solver.h"
#include "solve/universe_text.h"

namespace hambrel::solve {

namespace {

/// What is there in the end: "a 1, b 2", with the architecture where it is not "independent"; or "refused".
std::string after(const std::string& text, const std::vector<std::string>& words,
                  std::vector<std::string> architectures = {}) {
  const Universe u = test::universe(text, std::move(architectures));
  const auto result = solve(u, test::request(u, words));
  const auto* selection = std::get_if<Selection>(&result);
  if (selection == nullptr) return "refused";
  std::string list;
  for (const PackageId id : selection->chosen)
    list += (list.empty() ? "" : ", ") + u.package(id).title() +
            (u.architecture(id) == "independent" ? "" : " for " + std::string(u.architecture(id)));
  return list;
}

}  // namespace

TEST(Criteria, RemovingAPulledInPackageIsAvoidedEvenForTheNewestOfWhatWasAsked) {
  EXPECT_EQ(after("+helper 1\n    requires lib < 2\n+lib 1\n*keeper 1\n    requires lib\nlib 2\n"
                  "desk 2\n    requires lib >= 2\ndesk 1\n    requires lib\n",
                  {"install desk"}),
            "desk 1, helper 1, keeper 1, lib 1");
}

TEST(Criteria, NothingIsDowngradedForTheNewestOfWhatWasAsked) {
  EXPECT_EQ(after("*lib 2\nlib 1\ndesk 2\n    requires lib < 2\ndesk 1\n", {"install desk"}), "desk 1, lib 2");
}

TEST(Criteria, TheNewestOfWhatWasAskedMayTouchOthers) {
  EXPECT_EQ(after("*lib 1\nlib 2\ndesk 2\n    requires lib >= 2\ndesk 1\n", {"install desk"}), "desk 2, lib 2");
}

TEST(Criteria, OthersAreNotTouchedForARecommendation) {
  EXPECT_EQ(after("*lib 1\nlib 2\ndesk 1\n    recommends extra\nextra 1\n    requires lib >= 2\n", {"install desk"}),
            "desk 1, lib 1");
}

TEST(Criteria, ARecommendationCountsMoreThanTheNewestVersionOfAHelper) {
  EXPECT_EQ(after("desk 1\n    requires lib\n    recommends extra\nlib 2\nlib 1\nextra 1\n    conflicts lib >= 2\n",
                  {"install desk"}),
            "desk 1, extra 1, lib 1");
}

TEST(Criteria, ANewerVersionCountsMoreThanABetterRepository) {
  const std::string text = "desk 1\n    requires lib\nlib 2\n    from far/stable 70\nlib 1\n    from near/stable 10\n";
  EXPECT_EQ(after(text, {"install desk"}), "desk 1, lib 2");
}

TEST(Criteria, TheBetterRepositoryCountsMoreThanFewPackages) {
  EXPECT_EQ(
      after("desk 1\n    requires a | b\na 1\n    from far/stable 70\nb 1\n    from near/stable 10\n    requires c\n"
            "c 1\n    from near/stable 10\n",
            {"install desk"}),
      "b 1, c 1, desk 1");
}

TEST(Criteria, FewNewPackagesCountMoreThanTheFirstAlternative) {
  EXPECT_EQ(after("desk 1\n    requires big | small\nbig 1\n    requires more\nmore 1\nsmall 1\n", {"install desk"}),
            "desk 1, small 1");
}

TEST(Criteria, TheFirstAlternativeCountsMoreThanASmallDownload) {
  EXPECT_EQ(after("desk 1\n    requires b | a\nb 1\n    size 900\na 1\n    size 1\n", {"install desk"}), "b 1, desk 1");
}

TEST(Criteria, OfEqualsTheSmallerDownloadIsTakenAndThenTheFirstName) {
  EXPECT_EQ(after("desk 1\n    requires v\na 1\n    provides v\n    size 9\nb 1\n    provides v\n    size 8\n",
                  {"install desk"}),
            "b 1, desk 1");
  EXPECT_EQ(after("desk 1\n    requires v\na 1\n    provides v\nb 1\n    provides v\n", {"install desk"}),
            "a 1, desk 1");
}

TEST(Criteria, AnUpgradeMovesAsManyAsPossibleEvenIfAPulledInPackageGoes) {
  const std::string text =
      "*a 1\n    requires lib\n*b 1\n    requires lib\n+lib 1\n+old 1\n    requires lib < 2\n"
      "a 2\n    requires lib >= 2\nb 2\n    requires lib >= 2\nlib 2\n";
  EXPECT_EQ(after(text, {"upgrade"}), "a 2, b 2, lib 2");
}

TEST(Criteria, AWantedStrayStopsAnUpgradeUntilItMayBeDropped) {
  const std::string text =
      "*a 1\n    requires lib\n*stray 1\n    requires lib < 2\n+lib 1\na 2\n    requires lib >= 2\nlib 2\n";
  EXPECT_EQ(after(text, {"upgrade"}), "a 1, lib 1, stray 1");
  EXPECT_EQ(after(text, {"upgrade", "drop strays"}), "a 2, lib 2");
  EXPECT_EQ(after(text + "stray 1\n    requires lib < 2\n", {"upgrade", "drop strays"}), "a 1, lib 1, stray 1")
      << "what a repository still offers is no stray";
}

TEST(Criteria, AnUpgradeOfOneNameLeavesOthersWhereTheyAre) {
  EXPECT_EQ(after("*a 1\na 2\n    requires lib\n*b 1\nb 2\n+lib 1\nlib 2\n", {"upgrade a"}), "a 2, b 1, lib 1");
}

TEST(Criteria, AHeldPackageStaysWhateverIsAsked) {
  const std::string text = "*lib 1\n    held\nlib 2\ndesk 1\n    requires lib >= 2\n";
  EXPECT_EQ(after(text, {"upgrade"}), "lib 1");
  EXPECT_EQ(after(text, {"install desk"}), "refused");
  EXPECT_EQ(after(text, {"remove lib"}), "refused");
  EXPECT_EQ(after(text, {"install desk", "release lib"}), "desk 1, lib 2");
}

TEST(Criteria, ParallelVersionsStandSideBySideAndTheOldestMakesRoom) {
  const std::string three = "    parallel 2\n", text = "keel 3\n" + three + "*keel 2\n" + three + "*keel 1\n" + three;
  EXPECT_EQ(after(text, {"upgrade"}), "keel 3, keel 2");
  EXPECT_EQ(after("keel 2\n" + three + "*keel 1\n" + three, {"upgrade"}), "keel 2, keel 1");
  EXPECT_EQ(after("keel 2\n" + three + "*keel 1\n" + three, {"install keel = 2"}), "keel 2, keel 1");
}

TEST(Criteria, AReplacementThatIsOnOfferTakesOver) {
  EXPECT_EQ(after("*lamp 1\nlampdesk 2\n    replaces lamp\n", {"upgrade"}), "lampdesk 2");
  EXPECT_EQ(after("*lamp 1\nlampdesk 2\n    replaces lamp\nother 1\n", {"install other"}), "lamp 1, other 1");
}

TEST(Criteria, RequirementsAreMetWithinAnArchitecture) {
  const std::string text =
      "desk 1\n    arch armv7l\n    requires lib\nlib 1\n    arch x86_64\nlib 1\n    arch armv7l\n"
      "script 1\n    requires lib\n";
  EXPECT_EQ(after(text, {"install desk"}, {"x86_64", "armv7l"}), "desk 1 for armv7l, lib 1 for armv7l");
  EXPECT_EQ(after(text, {"install script"}, {"x86_64", "armv7l"}), "lib 1 for x86_64, script 1");
  EXPECT_EQ(after(text, {"install script", "install desk"}, {"x86_64", "armv7l"}),
            "desk 1 for armv7l, lib 1 for armv7l, lib 1 for x86_64, script 1");
}

TEST(Criteria, AChannelThatIsNotFollowedIsNotTouchedUnasked) {
  const std::string text = "desk 2\n    from !repo/beta\ndesk 1\nlib 2\n    from !repo/beta\n*lib 1\n";
  EXPECT_EQ(after(text, {"install desk"}), "desk 1, lib 1");
  EXPECT_EQ(after(text, {"upgrade"}), "lib 1");
  EXPECT_EQ(after(text, {"install desk = 2"}), "desk 2, lib 1");
}

TEST(Criteria, AHoldAndARepositoryThatIsNotEnabledAreOfferedAsWaysOut) {
  const Universe u = test::universe(
      "*lib 1\n    held\nlib 2\ndesk 1\n    requires lib >= 2\nview 1\n    requires glass\nglass 1\n"
      "    from !!cove/stable\n");
  const auto ways = [&](const std::string& name) {
    const Request asked = test::request(u, {"install " + name});
    const auto result = solve(u, asked);
    std::string text;
    for (const plan::Remedy& one : plan::remedies_for(u, asked, std::get<Refusal>(result)).remedies)
      text += one.command() + ": " + one.price() + "\n";
    return text;
  };
  EXPECT_EQ(ways("desk"),
            "hambrel change --release lib --install desk: releases the hold of lib; upgrades 1; installs 1\n");
  EXPECT_EQ(ways("view"), "hambrel repo enable cove && hambrel install view: enables repository cove; installs 2\n");
}

/// N + 1 packages are asked for, each to have one of N places that exclude each other: refuting it takes exponential
/// time in searches of this kind.
TEST(Criteria, AHostileIndexEndsWithinItsBudgetWithAnHonestAnswer) {
  constexpr int kPlaces = 10;
  std::string text;
  std::vector<std::string> words;
  for (int i = 0; i <= kPlaces; ++i) {
    const std::string name = "p" + std::to_string(i);
    words.push_back("install " + name);
    text += name + " 1\n    requires ";
    for (int k = 0; k < kPlaces; ++k) text += (k == 0 ? "" : " | ") + name + "-at" + std::to_string(k);
    text += "\n";
    for (int k = 0; k < kPlaces; ++k)
      text += name + "-at" + std::to_string(k) + " 1\n    provides place" + std::to_string(k) +
              "\n    conflicts place" + std::to_string(k) + "\n";
  }
  const Universe u = test::universe(text);
  Request asked = test::request(u, words);
  asked.budget = 2'000'000;
  const auto result = solve(u, asked);
  ASSERT_TRUE(std::holds_alternative<Refusal>(result));
  EXPECT_FALSE(std::get<Refusal>(result).decided);
  words.pop_back();  // one less fits
  Request possible = test::request(u, words);
  possible.budget = 2'000'000;
  EXPECT_TRUE(std::holds_alternative<Selection>(solve(u, possible)));
}

}  // namespace hambrel::solve
