// Ten thousand packages: the answers against a general SAT library, and every plan through the independent checker.
#include <gtest/gtest.h>

#include <cadical.hpp>
#include <map>

#include "plan/plan.h"
#include "solve/solver.h"
#include "universe.h"

namespace hambrel::solve {

namespace {

std::vector<Candidate> candidates_of(const bench::World& world, const bench::System& system) {
  std::vector<Candidate> all;
  for (const bench::Line& line : world.now) {
    Candidate one;
    one.package = line.line.package;
    Offer offer;
    offer.repository = line.repository;
    offer.channel = line.line.channel;
    offer.followed = line.line.channel == "stable";
    offer.size = line.line.size;
    offer.digest = line.line.digest;
    one.offers = {offer};
    all.push_back(std::move(one));
  }
  for (std::size_t i = 0; i < system.packages.size(); ++i) {
    Candidate one;
    one.package = system.packages[i];
    one.installed = Installed{static_cast<std::int64_t>(i + 1),
                              system.wanted[i] ? Reason::Wanted : Reason::PulledIn,
                              system.origins[i],
                              0,
                              system.digests[i],
                              {}};
    all.push_back(std::move(one));
  }
  return all;
}

/// Can a request be met? Clauses written straight from the manifests, for everything that may be chosen.
bool by_sat_library(const Universe& u, const Request& request) {
  CaDiCaL::Solver solver;
  solver.set("quiet", 1);
  std::map<PackageId, int> variable;
  std::map<std::string, std::vector<PackageId>> answers;
  for (const PackageId id : u.all()) {
    if (!u.is_installed(id) && !u.offered(id)) continue;
    variable[id] = static_cast<int>(variable.size()) + 1;
    answers[u.package(id).name].push_back(id);
    for (const Constraint& one : u.package(id).provides)
      if (one.name != u.package(id).name) answers[one.name].push_back(id);
  }
  const auto clause = [&](const std::vector<int>& literals) {
    for (const int literal : literals) solver.add(literal);
    solver.add(0);
  };
  for (const auto& [id, number] : variable) {
    const Package& package = u.package(id);
    for (const Relation& relation : package.requires_) {
      std::vector<int> literals{-number};
      for (const Constraint& one : relation.alternatives)
        for (const PackageId other : answers[one.name])
          if (satisfies(u.package(other), one)) literals.push_back(variable[other]);
      clause(literals);
    }
    for (const Constraint& one : package.conflicts)
      for (const PackageId other : answers[one.name])
        if (u.package(other).name != package.name && satisfies(u.package(other), one))
          clause({-number, -variable[other]});
    for (const Constraint& one : package.replaces)
      for (const PackageId other : answers[one.name])
        if (u.package(other).name == one.name && one.name != package.name && one.allows(u.package(other).version))
          clause({-number, -variable[other]});
    for (const PackageId other : u.versions_of(package.name))
      if (other != id && variable.contains(other)) clause({-number, -variable[other]});
    if (request.remove.contains(package.name)) clause({-number});
  }
  for (const PackageId id : u.installed()) {
    if (!u.wanted(id) || request.remove.contains(u.package(id).name)) continue;
    std::vector<int> literals;
    for (const PackageId other : u.versions_of(u.package(id).name))
      if (variable.contains(other)) literals.push_back(variable[other]);
    for (const auto& [other, number] : variable)
      for (const Constraint& one : u.package(other).replaces)
        if (one.name == u.package(id).name && one.allows(u.package(id).version)) literals.push_back(number);
    clause(literals);
  }
  for (const Target& target : request.install) {
    std::vector<int> literals;
    for (const PackageId id : target.candidates) literals.push_back(variable.at(id));
    clause(literals);
  }
  return solver.solve() == 10;
}

}  // namespace

TEST(Large, TenThousandPackagesAgreeWithASatLibrary) {
  const bench::World world = bench::make_world({10000, 5});
  const Universe u(candidates_of(world, bench::make_system(world, false, 1500, 6)), {"x86_64"});
  ASSERT_GT(u.all().size(), 9000U);
  std::uint64_t place = 7;
  const auto draw = [&](std::size_t n) {
    place = place * 6364136223846793005U + 1442695040888963407U;
    return static_cast<std::size_t>(place >> 33U) % n;
  };
  const auto names = u.names();
  int met = 0, refused = 0;
  for (int round = 0; round < 12; ++round) {
    Request request;
    const bool upgrade = round == 0;
    request.upgrade_all = upgrade;
    while (request.install.size() < 6 && !upgrade) {
      const std::string& name = names[draw(names.size())];
      std::vector<PackageId> ids(u.versions_of(name).begin(), u.versions_of(name).end());
      std::erase_if(ids, [&](PackageId id) { return !u.offered(id); });
      if (!ids.empty()) request.install.push_back({name, ids});
    }
    if (round % 3 == 1) {
      const PackageId gone = u.installed()[draw(u.installed().size())];
      request.remove.emplace(u.name(gone));
    }
    const auto result = solve(u, request);
    const auto* selection = std::get_if<Selection>(&result);
    EXPECT_EQ(selection != nullptr, by_sat_library(u, request)) << "round " << round;
    ++(selection != nullptr ? met : refused);
    if (selection == nullptr) {
      EXPECT_TRUE(std::get<Refusal>(result).decided);
      EXPECT_LE(std::get<Refusal>(result).causes.size(), 40U);
      continue;
    }
    EXPECT_TRUE(selection->proved);
    const auto problems = plan::make_checked_plan(u, request, *selection).problems;
    EXPECT_TRUE(problems.empty()) << problems.front();
  }
  std::printf("%d met, %d refused\n", met, refused);
  EXPECT_GE(met, 2);
  EXPECT_GE(refused, 2);
}

}  // namespace hambrel::solve
