#include "plan/remedies.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <random>

#include "plan/trees.h"
#include "solve/solver.h"
#include "solve/universe_text.h"

namespace hambrel::plan {

namespace {

/// "COMMAND: PRICE" of each remedy, a line each.
std::string ways_out(const Universe& u, const std::vector<std::string>& install, const solve::Names& remove = {}) {
  solve::Request request;
  request.remove = remove;
  for (const std::string& text : install) {
    std::vector<PackageId> candidates;  // as a spec: without a version only what is followed
    const Constraint constraint = parse_constraint(text, "");
    for (const PackageId id : u.matching(constraint))
      if (constraint.op != Operator::Any || u[id].offered() || u[id].installed) candidates.push_back(id);
    request.install.push_back({text, candidates});
  }
  const auto answer = solve::solve(u, request);
  if (!std::holds_alternative<solve::Refusal>(answer)) return "not refused";
  std::string text;
  const WaysOut found = remedies_for(u, request, std::get<solve::Refusal>(answer));
  for (const Remedy& remedy : found.remedies) text += remedy.command() + ": " + remedy.price() + "\n";
  if (found.remedies.empty()) text += "none: " + found.best_known + "\n";
  return text;
}

std::string lines(const Universe& u, const std::vector<TreeLine>& tree) {
  std::string text;
  for (const TreeLine& line : tree)
    text += std::string(2 * line.depth, ' ') + u.package(line.id).title() +
            (line.relation.empty() ? "" : ": " + line.relation) + (line.folded ? " (folded)" : "") + "\n";
  return text;
}

}  // namespace

TEST(Remedies, AWantedPackageInTheWayIsNamed) {
  const Universe u = test::universe("new 1\n    conflicts old\n*old 1\n+lib 1\n");
  EXPECT_EQ(ways_out(u, {"new"}), "hambrel change --install new --remove old: removes old (wanted); installs 1\n");
}

TEST(Remedies, WhatWantsAWantedPackageGoesAlong) {
  const Universe u = test::universe("*a 1\n*b 1\n    requires a\n*c 1\n    requires b\n");
  EXPECT_EQ(ways_out(u, {}, {"a"}), "hambrel remove a b c: removes c, b, a (wanted)\n");
}

TEST(Remedies, TheCheapestComesFirst) {
  const Universe u = test::universe(
      "desk 2\n    requires lib >= 2\ndesk 1\n    requires lib < 2\nlib 2\n*lib 1\n*old 1\n    requires lib < 2\nextra "
      "1\n");
  EXPECT_EQ(
      ways_out(u, {"desk >= 2", "extra"}),
      "hambrel install desk=1 extra: takes desk=1; installs 2\nhambrel install extra: drops desk >= 2; installs 1\n"
      "hambrel change --install 'desk >= 2' --install extra --remove old: removes old (wanted); upgrades 1; installs "
      "2\n");
}

TEST(Remedies, OneOfTwoThatExcludeEachOtherIsGivenUp) {
  const Universe u = test::universe("a 1\n    conflicts b\nb 1\n");
  EXPECT_EQ(ways_out(u, {"a", "b"}),
            "hambrel install b: drops a; installs 1\nhambrel install a: drops b; installs 1\n");
}

TEST(Remedies, AnotherChannelIsTriedAndNamedPackageByPackage) {
  const Universe plain = test::universe("desk 2\n    requires lib >= 2\nlib 1\nlib 2\n");
  std::vector<Candidate> all;
  for (const PackageId id : plain.all()) {
    all.push_back(plain[id]);
    if (all.back().package.title() == "lib 2") {
      all.back().offers[0].followed = false;
      all.back().offers[0].channel = "beta";
    }
  }
  const Universe u(all);
  EXPECT_EQ(ways_out(u, {"desk"}), "hambrel install desk lib@beta: installs 2\n");
}

TEST(Remedies, WhereNothingHelpsThatIsSaid) {
  const Universe u = test::universe("a 1\n    requires nowhere\n");
  EXPECT_EQ(ways_out(u, {"a"}),
            "none: removing packages, releasing holds, other versions and other channels do not help\n");
}

TEST(Remedies, OfVeryManyChannelsSomeAreTriedAndThatIsSaid) {
  std::string text = "a 1\n    requires b\n";
  for (int i = 1; i <= 40; ++i) {
    const std::string number = std::to_string(i);
    text += "b " + number + "\n    requires nowhere\n    from !repo/channel" + number + " 50\n";
  }
  EXPECT_EQ(
      ways_out(test::universe(text), {"a"}),
      "none: removing packages, releasing holds and other versions do not help, nor do 8 of 40 other channels; the "
      "rest were not tried\n");
}

TEST(Remedies, AsFewWantedPackagesAsPossibleAreGivenUp) {
  std::string text = "new 1\n    requires by-many | by-two\nby-many 1\n";
  for (int i = 1; i <= 5; ++i) text += "    conflicts m" + std::to_string(i) + "\n";
  text += "by-two 1\n    conflicts t1\n    conflicts t2\n*t1 1\n*t2 1\n";
  for (int i = 1; i <= 5; ++i) text += "*m" + std::to_string(i) + " 1\n";
  EXPECT_THAT(ways_out(test::universe(text), {"new"}),
              testing::StartsWith("hambrel change --install new --remove t1 --remove t2: removes t2, t1 (wanted); "));
  std::string many = "new 1\n";
  for (int i = 1; i <= 60; ++i) many += "    conflicts w" + std::to_string(i) + "\n";
  for (int i = 1; i <= 60; ++i) many += "*w" + std::to_string(i) + " 1\n";
  EXPECT_THAT(ways_out(test::universe(many), {"new"}),
              testing::StartsWith("none: the smallest change that would help would remove 60 packages: w1, w10, "));
  std::string ten = "new 1\n";
  for (int i = 1; i <= 10; ++i) ten += "    conflicts w" + std::to_string(i) + "\n";
  for (int i = 1; i <= 10; ++i) ten += "*w" + std::to_string(i) + " 1\n";
  EXPECT_THAT(ways_out(test::universe(ten), {"new"}), testing::HasSubstr(" and 4 more (wanted); installs 1"));
}

TEST(Remedies, NoneGivesUpAllThatAnotherDoesAndMore) {
  // four wanted packages whose requirements on two names meet in many ways
  std::mt19937 random(29);
  int several = 0;
  for (int round = 0; round < 1000; ++round) {
    const auto pick = [&](unsigned n) { return std::to_string(1 + random() % n); };
    std::string text = "new 1\n";
    for (int i = 0; i < 2; ++i) text += "    requires x" + pick(3) + " | x" + pick(3) + "\n";
    for (int i = 1; i <= 3; ++i) text += "x" + std::to_string(i) + " 1\n    conflicts y" + pick(4) + "\n";
    for (int i = 1; i <= 4; ++i) text += "+y" + std::to_string(i) + " 1\n";
    for (int i = 1; i <= 4; ++i)
      text += "*w" + std::to_string(i) + " 1\n    requires y" + pick(4) + " | y" + pick(4) + "\n    requires y" +
              pick(4) + "\n";
    const Universe u = test::universe(text);
    solve::Request request;
    request.install.push_back({"new", {u.versions_of("new").front()}});
    const auto answer = solve::solve(u, request);
    if (!std::holds_alternative<solve::Refusal>(answer)) continue;
    const auto remedies = remedies_for(u, request, std::get<solve::Refusal>(answer)).remedies;
    several += remedies.size() > 1 ? 1 : 0;
    for (const Remedy& less : remedies)
      for (const Remedy& more : remedies) {
        const solve::Names &fewer = less.request.remove, &all = more.request.remove;
        EXPECT_FALSE(&less != &more && std::includes(all.begin(), all.end(), fewer.begin(), fewer.end())) << text;
      }
  }
  EXPECT_GT(several, 30);
}

TEST(Trees, UnfoldEachPackageOnceAndStopAtTheDepth) {
  const Universe u = test::universe(
      "*a 1\n    requires b\n    requires c >= 1\n+b 1\n    requires d\n+c 1\n    requires b\n    requires a\n+d 1\n");
  const PackageId a = *u.installed_of("a"), d = *u.installed_of("d");
  EXPECT_EQ(lines(u, needs_tree(u, u.installed(), a, 0)),
            "a 1\n  b 1: requires b\n    d 1: requires d\n  c 1: requires c >= 1\n    b 1: requires b (folded)\n    a "
            "1: requires a (folded)\n");
  EXPECT_EQ(lines(u, needs_tree(u, u.installed(), a, 1)), "a 1\n  b 1: requires b\n  c 1: requires c >= 1\n");
  EXPECT_EQ(lines(u, needed_by_tree(u, u.installed(), d, 2)),
            "d 1\n  b 1: requires d\n    a 1: requires b\n    c 1: requires b\n");
}

TEST(Trees, WhyIsAShortestChainAndPrefersRequirements) {
  const Universe u = test::universe(
      "*far 1\n    requires mid\n+mid 1\n    requires lib\n+lib 1\n*near 1\n    recommends lib\n+lost 1\n");
  EXPECT_EQ(lines(u, why_installed(u, *u.installed_of("lib"))),
            "far 1\n  mid 1: requires mid\n    lib 1: requires lib\n");
  EXPECT_EQ(lines(u, why_installed(u, *u.installed_of("far"))), "far 1\n");
  EXPECT_EQ(lines(u, why_installed(u, *u.installed_of("lost"))), "");
}

}  // namespace hambrel::plan
