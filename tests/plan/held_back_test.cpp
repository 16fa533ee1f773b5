// What an upgrade leaves behind, and why: a reason is only right if what it names is really in the way, and nothing
// else.
#include <gtest/gtest.h>

#include <map>
#include <set>

#include "plan/plan.h"
#include "solve/obstacles.h"
#include "solve/random_question.h"
#include "solve/solver.h"
#include "universe.h"

namespace hambrel::plan {

namespace {

using solve::Cause;
using solve::Obstacle;
using test::Question;

bool can_install(const std::vector<std::string>& lines, const std::string& name, const std::string& version,
                 bool drop_strays) {
  const Universe u = test::universe(join(lines, "\n"));
  solve::Request request;
  request.recommended = false;
  request.drop_strays = drop_strays;
  for (const PackageId id : u.versions_of(name))
    if (u.version(id) == version) request.install.push_back({name, {id}});
  return std::holds_alternative<solve::Selection>(solve::solve(u, request));
}

/// The universe without what a root stands for.
std::vector<std::string> without(std::vector<std::string> lines, const Cause& root) {
  std::string name;
  for (auto line = lines.begin(); line != lines.end();) {
    const bool is_package = !line->starts_with(" ");
    if (is_package) {
      name = line->substr(line->find_first_not_of("*+"));
      name = name.substr(0, name.find(' '));
    }
    if (is_package && name == root.name && root.kind == Cause::Kind::Wanted && line->starts_with("*")) (*line)[0] = '+';
    const bool goes = name == root.name && ((root.kind == Cause::Kind::Held && *line == "    held") ||
                                            (root.kind == Cause::Kind::Requires && line->starts_with("    requires ") &&
                                             parse_relation(line->substr(13), "").text() == root.relation));
    line = goes ? lines.erase(line) : line + 1;
  }
  return lines;
}

struct Tally {
  int told = 0, preferred = 0, untold = 0;
};

/// What is wrong about the reasons of an upgrade of everything, or nothing.
std::string mistake(const Question& question, Tally& tally) {
  const Universe u = test::universe(join(question.universe, "\n"));
  const solve::Request request = test::request(u, question.request);
  const auto answer = solve::solve(u, request);
  const auto* const selection = std::get_if<solve::Selection>(&answer);
  if (selection == nullptr) return "";
  const Plan plan = make_plan(u, request, *selection);
  std::size_t left = 0;
  std::vector<PackageId> ids;
  for (const HeldBack& one : plan.held_back) {
    left += one.held ? 0 : 1;
    if (!one.held) ids.push_back(one.offered_id);
  }
  for (const solve::LevelValue& level : selection->levels)
    if (level.level == solve::Level::NotNewest && level.value != left)
      return "the level counts " + std::to_string(level.value) + ", the plan names " + std::to_string(left);
  const auto obstacles = selection->obstacles->explain(ids, selection->chosen);
  for (std::size_t i = 0; i < ids.size(); ++i) {
    const std::string name(u.name(ids[i])), version(u.version(ids[i])), what = name + " " + version + ": ";
    if (!obstacles[i]) {
      ++tally.untold;
      std::vector<std::string> free = question.universe;  // not even if nothing is wanted or held
      for (std::string& line : free) {
        if (line.starts_with("*")) line[0] = '+';
        if (line == "    held") line = "    size 1";
      }
      std::erase(free, "    size 1");
      if (can_install(free, name, version, request.drop_strays)) return what + "no reason, though it could come";
      continue;
    }
    const Obstacle& obstacle = *obstacles[i];
    const bool could_come = can_install(question.universe, name, version, request.drop_strays);
    ++(obstacle.roots.empty() ? tally.preferred : tally.told);
    if (obstacle.roots.empty() != could_come) return what + "it is said that roots stand against it, or none do; wrong";
    std::vector<std::string> lines = question.universe;
    for (const Cause& root : obstacle.roots) lines = without(std::move(lines), root);
    if (!can_install(lines, name, version, request.drop_strays))
      return what + "it can't come without " + obstacle.roots.front().text(u);
  }
  return "";
}

/// A system of the release before, and what the repositories offer now.
std::vector<Candidate> large_candidates(std::size_t packages, std::size_t installed, std::uint64_t seed) {
  const bench::World world = bench::make_world({packages, seed});
  const bench::System system = bench::make_system(world, false, installed, seed + 1);
  std::vector<Candidate> all;
  for (const bench::Line& line : world.now) {
    Candidate& one = all.emplace_back();
    one.package = line.line.package;
    Offer& offer = one.offers.emplace_back();
    offer.repository = line.repository;
    offer.channel = line.line.channel;
    offer.followed = line.line.channel == "stable";
    offer.digest = line.line.digest;
  }
  for (std::size_t i = 0; i < system.packages.size(); ++i) {
    Candidate& one = all.emplace_back();
    one.package = system.packages[i];
    one.installed = Installed{static_cast<std::int64_t>(i + 1),
                              system.wanted[i] ? Reason::Wanted : Reason::PulledIn,
                              system.origins[i],
                              0,
                              system.digests[i],
                              {}};
  }
  return all;
}

/// Without what the roots stand for.
std::vector<Candidate> without(std::vector<Candidate> all, const std::vector<Cause>& roots) {
  for (const Cause& root : roots)
    for (Candidate& one : all) {
      if (one.package.name != root.name) continue;
      if (root.kind == Cause::Kind::Wanted && one.installed) one.installed->reason = Reason::PulledIn;
      if (root.kind == Cause::Kind::Requires)
        std::erase_if(one.package.requires_,
                      [&](const Relation& relation) { return relation.text() == root.relation; });
    }
  return all;
}

}  // namespace

TEST(HeldBack, WithoutWhatTheReasonNamesEachCouldCome) {
  std::mt19937 random(2028);
  Tally tally;
  for (int round = 0; round < 12000; ++round) {
    Question question = test::random_question(random);
    question.request = {"upgrade"};
    if (round % 4 == 0) question.request.emplace_back("drop strays");
    const std::string wrong = mistake(question, tally);
    ASSERT_EQ(wrong, "") << "round " << round << "\n" << question.text();
  }
  std::printf("%d told, %d preferred, %d can't come at all\n", tally.told, tally.preferred, tally.untold);
  EXPECT_GT(tally.told, 1000);
  EXPECT_GT(tally.preferred, 50);
}

TEST(HeldBack, AReasonEndsAtWhatWasDecidedAndSaysWhatWouldComeWithoutIt) {
  const Universe u = test::universe(R"(
*old-tool 1
    requires lib = 1
+lib 1
lib 2
+user 1
    requires lib = 1
user 2
    requires lib = 2
+other 1
    conflicts user >= 2
)");
  const solve::Request request = test::request(u, {"upgrade"});
  const auto answer = solve::solve(u, request);
  const Plan plan = make_plan(u, request, std::get<solve::Selection>(answer));
  ASSERT_EQ(plan.held_back.size(), 2U);
  for (const HeldBack& one : plan.held_back) {
    EXPECT_EQ(one.by, "old-tool");
    EXPECT_EQ(one.why, "old-tool 1 (wanted, and no repository offers it any more) requires lib = 1");
    EXPECT_EQ(one.together, 2U);
  }
}

TEST(HeldBack, SoItIsInALargeUniverse) {
  const std::vector<Candidate> all = large_candidates(6000, 1500, 11);
  const Universe u(all, {"x86_64"});
  solve::Request request;
  request.upgrade_all = true;
  const auto answer = solve::solve(u, request);
  const auto& selection = std::get<solve::Selection>(answer);
  std::vector<PackageId> ids;
  for (const HeldBack& one : make_plan(u, request, selection).held_back) ids.push_back(one.offered_id);
  const auto obstacles = selection.obstacles->explain(ids, selection.chosen);
  std::map<std::string, std::vector<std::size_t>> groups;  // by the names of the roots
  for (std::size_t i = 0; i < ids.size(); ++i) {
    std::string key;
    if (obstacles[i])
      for (const Cause& root : obstacles[i]->roots) key += root.name + " " + root.relation + "\n";
    if (!key.empty()) groups[key].push_back(i);
  }
  std::printf("%zu held back, %zu groups\n", ids.size(), groups.size());
  ASSERT_GT(groups.size(), 3U);
  for (const auto& [key, members] : groups) {
    const Universe freed(without(all, obstacles[members.front()]->roots), {"x86_64"});
    for (const std::size_t i : members)
      for (const Universe* const one : {&u, &freed}) {
        solve::Request alone;
        for (const PackageId id : one->versions_of(u.name(ids[i])))
          if (one->version(id) == u.version(ids[i])) alone.install.push_back({std::string(u.name(ids[i])), {id}});
        alone.install.resize(1);
        const bool possible = std::holds_alternative<solve::Selection>(solve::solve(*one, alone));
        EXPECT_EQ(possible, one == &freed) << u.package(ids[i]).title() << " and\n" << key;
      }
  }
}

TEST(HeldBack, ALargeUpgradeIsPlannedTheSameWhicheverThreadIsTheFirst) {
  const std::vector<Candidate> all = large_candidates(6000, 1500, 11);
  std::set<std::string> plans;
  for (int round = 0; round < 5; ++round) {
    const Universe u(all, {"x86_64"});
    solve::Request request;
    request.upgrade_all = true;
    const auto answer = solve::solve(u, request);
    const Plan plan = make_plan(u, request, std::get<solve::Selection>(answer));
    std::string text;
    for (const Step& step : plan.steps) text += step.name + " " + step.after + "\n";
    for (const HeldBack& one : plan.held_back)
      text += one.name + ": " + one.why + " " + std::to_string(one.together) + "\n";
    plans.insert(text);
  }
  EXPECT_EQ(plans.size(), 1U);
}

}  // namespace hambrel::plan
