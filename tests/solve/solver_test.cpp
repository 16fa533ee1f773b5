#include "solve/solver.h"

#include <gtest/gtest.h>

#include <random>

#include "plan/plan.h"
#include "plan/remedies.h"
#include "solve/universe_text.h"

namespace hambrel::solve {

using test::universe;

namespace {

Target target(const Universe& universe, const std::string& text) {
  return {text, universe.matching(parse_constraint(text, "test"))};
}

Request install(const Universe& universe, const std::vector<std::string>& texts) {
  Request request;
  for (const std::string& text : texts) request.install.push_back(target(universe, text));
  return request;
}

/// "a 1, b 2" or the causes of a refusal, one a line.
std::string answer(const Universe& universe, const Request& request) {
  const auto result = solve(universe, request);
  std::string text;
  if (const auto* refusal = std::get_if<Refusal>(&result)) {
    for (const Cause& cause : refusal->causes) text += cause.text(universe) + "\n";
    return text;
  }
  for (const PackageId id : std::get<Selection>(result).chosen)
    text += (text.empty() ? "" : ", ") + universe.package(id).title();
  return text;
}

}  // namespace

TEST(Solver, TakesTheNewestAndOnlyWhatIsNeeded) {
  const Universe u = universe(
      "lampdesk 5\n    requires libbuoy >= 2\n    recommends fonts\nlibbuoy 1\nlibbuoy 2\nlibbuoy 3\nfonts 1\nother "
      "1\n");
  EXPECT_EQ(answer(u, install(u, {"lampdesk"})), "fonts 1, lampdesk 5, libbuoy 3");
  Request plain = install(u, {"lampdesk"});
  plain.recommended = false;
  EXPECT_EQ(answer(u, plain), "lampdesk 5, libbuoy 3");
}

TEST(Solver, ASmallRequestStaysSmall) {
  const Universe u = universe("*saltdb 1\nsaltdb 2\nmoorlog 1\n    requires saltdb\n");
  EXPECT_EQ(answer(u, install(u, {"moorlog"})), "moorlog 1, saltdb 1");
}

TEST(Solver, TheFirstAlternativeIsPreferredUnlessOneIsThere) {
  const std::string text = "desk 1\n    requires b | a\na 1\nb 1\n";
  EXPECT_EQ(answer(universe(text), install(universe(text), {"desk"})), "b 1, desk 1");
  const Universe with_a = universe(text + "+a 1\n");
  EXPECT_EQ(answer(with_a, install(with_a, {"desk"})), "a 1, desk 1");
}

TEST(Solver, AnUpgradeMovesWhatBelongsTogether) {
  const Universe u = universe(
      "*desk 1\n    requires lib = 1\n+lib 1\ndesk 2\n    requires lib = 2\nlib 2\n*old 1\nold 2\n    requires "
      "nowhere\n");
  Request request;
  request.upgrade_all = true;
  EXPECT_EQ(answer(u, request), "desk 2, lib 2, old 1");
  request.except = {"desk"};
  EXPECT_EQ(answer(u, request), "desk 1, lib 1, old 1");
}

TEST(Solver, AReplacementTakesOverInAnUpgrade) {
  const Universe u = universe(
      "*lamp-desk 4\n*gullcam 1\n    requires lamp-desk\nlampdesk 5\n    replaces lamp-desk\n    provides lamp-desk = "
      "5\n");
  Request request;
  request.upgrade_all = true;
  EXPECT_EQ(answer(u, request), "gullcam 1, lampdesk 5");
}

TEST(Solver, RemovalTakesPulledInDependantsButNeverWantedOnes) {
  const std::string text = "*lib 1\n+helper 1\n    requires lib\n";
  Request request;
  request.remove = {"lib"};
  EXPECT_EQ(answer(universe(text), request), "");
  EXPECT_EQ(answer(universe(text + "*desk 1\n    requires lib\n"), request),
            "lib was to be removed\ndesk 1 is installed and wanted\ndesk 1 requires lib: lib 1\n");
}

TEST(Solver, DropUnneededFollowsWhatIsStillNeeded) {
  const Universe u = universe("*desk 1\n    requires a\n+a 1\n    requires b\n+b 1\n*watch 1\n    recommends b\n");
  Request request;
  request.remove = {"desk"};
  request.drop_unneeded = true;
  EXPECT_EQ(answer(u, request), "b 1, watch 1");
}

TEST(Solver, ARefusalNamesTheChain) {
  const Universe u =
      universe("lampdesk 6\n    requires libbuoy >= 3\nlibbuoy 3\n*gullcam 1\n    requires libbuoy < 3\n+libbuoy 2\n");
  EXPECT_EQ(answer(u, install(u, {"lampdesk"})),
            "lampdesk was asked for\nlampdesk 6 requires libbuoy >= 3: libbuoy 3\n"
            "gullcam 1 is installed and wanted\ngullcam 1 requires libbuoy < 3: libbuoy 2\n");
  const Universe missing = universe("a 1\n    requires nowhere >= 2\n");
  EXPECT_EQ(answer(missing, install(missing, {"a"})),
            "a was asked for\na 1 requires nowhere >= 2, which nothing offers\n");
}

TEST(Solver, ManyVersionsOfOneNameExcludeEachOther) {
  std::string text = "x 1\n    requires many\n";
  for (int i = 1; i <= 12; ++i) text += "many " + std::to_string(i) + "\n";
  const Universe u = universe(text);
  EXPECT_EQ(answer(u, install(u, {"x"})), "many 12, x 1");
}

// ---- against brute force
// ----------------------------------------------------------------------------------------------

namespace {

/// A random universe of up to 4 names with up to 3 versions, everything allowed.
Universe random_universe(std::mt19937& random) {
  const auto pick = [&](unsigned n) { return static_cast<unsigned>(random() % n); };
  const std::string names = "abcd";
  std::string text;
  const auto constraint = [&] {
    std::string c(1, "abcdv"[pick(5)]);
    static const char* const ops[] = {"", "", " = ", " < ", " >= ", " != "};
    const std::string op = ops[pick(6)];
    return op.empty() ? c : c + op + std::to_string(1 + pick(3));
  };
  for (const char name : names) {
    const unsigned versions = pick(4);
    const unsigned installed = pick(2) == 0 ? 1 + pick(3) : 0;
    for (unsigned v = 1; v <= versions; ++v) {
      text += std::string(installed == v ? (pick(2) == 0 ? "*" : "+") : "") + name + " " + std::to_string(v) + "\n";
      for (unsigned n = pick(3); n > 0; --n)
        text += "    requires " + constraint() + (pick(3) == 0 ? " | " + constraint() : "") + "\n";
      if (pick(4) == 0) text += "    conflicts " + constraint() + "\n";
      if (pick(4) == 0)
        text += "    provides v" + std::string(pick(2) == 0 ? " = " + std::to_string(1 + pick(3)) : "") + "\n";
      if (pick(8) == 0) text += "    replaces " + constraint() + "\n";
      if (pick(4) == 0) text += "    recommends " + constraint() + "\n";
    }
  }
  return universe(text);
}

Request random_request(const Universe& u, std::mt19937& random) {
  Request request;
  const auto names = u.names();
  for (const std::string& name : names) {
    const auto roll = random() % 6;
    if (roll == 0) request.install.push_back(target(u, name));
    if (roll == 1 && u.installed_of(name)) request.remove.insert(name);
  }
  request.upgrade_all = random() % 4 == 0;
  return request;
}

/// Does a set meet the hard constraints H1 to H5? Written from their wording, by way of the plan's checker.
bool acceptable(const Universe& u, const Request& request, const std::vector<PackageId>& set) {
  std::vector<Package> packages;
  const std::set<PackageId> members(set.begin(), set.end());
  for (const PackageId id : set) packages.push_back(u.package(id));
  if (!plan::problems_of(packages).empty()) return false;
  for (const Target& one : request.install)
    if (std::none_of(one.candidates.begin(), one.candidates.end(), [&](PackageId id) { return members.contains(id); }))
      return false;
  for (const PackageId id : set)
    if (request.remove.contains(u.package(id).name)) return false;
  for (const PackageId id : u.installed()) {
    const Package& old = u.package(id);
    if (u[id].installed->reason != Reason::Wanted || request.remove.contains(old.name)) continue;
    bool stays = false;
    for (const PackageId one : set) {
      stays = stays || u.package(one).name == old.name;
      for (const Constraint& c : u.package(one).replaces)
        stays = stays || (u.package(one).name != old.name && c.name == old.name && c.allows(old.version));
    }
    if (!stays) return false;
  }
  return true;
}

bool brute_force(const Universe& u, const Request& request) {
  const auto all = u.all();
  for (std::uint32_t bits = 0; bits < (1U << all.size()); ++bits) {
    std::vector<PackageId> set;
    for (std::size_t i = 0; i < all.size(); ++i)
      if ((bits >> i & 1U) != 0) set.push_back(all[i]);
    if (acceptable(u, request, set)) return true;
  }
  return false;
}

}  // namespace

TEST(Solver, AgreesWithBruteForceOnTwentyThousandSmallUniverses) {
  std::mt19937 random(42);
  int solved = 0, refused = 0;
  for (int round = 0; round < 20000; ++round) {
    const Universe u = random_universe(random);
    const Request request = random_request(u, random);
    const auto result = solve(u, request);
    if (const auto* selection = std::get_if<Selection>(&result)) {
      ++solved;
      ASSERT_TRUE(acceptable(u, request, selection->chosen)) << "round " << round << "\n" << test::text_of(u);
    } else {
      ++refused;
      ASSERT_FALSE(brute_force(u, request)) << "round " << round << ": there is a solution\n" << test::text_of(u);
      ASSERT_FALSE(std::get<Refusal>(result).causes.empty());
    }
  }
  std::printf("%d solved, %d refused\n", solved, refused);
  EXPECT_GT(solved, 2000);
  EXPECT_GT(refused, 2000);
}

namespace {

/// Is a statement of a refusal true of a set of packages?
bool holds(const Universe& u, const Cause& cause, const std::set<PackageId>& set) {
  const auto any = [&](const std::vector<PackageId>& ids) {
    return std::any_of(ids.begin(), ids.end(), [&](PackageId id) { return set.contains(id); });
  };
  switch (cause.kind) {
    case Cause::Kind::Asked: return any(cause.others);
    case Cause::Kind::AskedToRemove: return !any(u.versions_of(cause.name));
    case Cause::Kind::LeftAlone: return any(cause.packages);
    case Cause::Kind::Wanted: {
      if (any(u.versions_of(cause.name))) return true;
      for (const PackageId id : set)
        for (const Constraint& c : u.package(id).replaces)
          if (c.name == cause.name && c.allows(u.package(cause.packages.front()).version)) return true;
      return false;
    }
    case Cause::Kind::Requires: return !any(cause.packages) || any(cause.others);
    case Cause::Kind::Conflicts:
    case Cause::Kind::Replaces: return !any(cause.packages) || !any(cause.others);
  }
  return false;
}

bool can_all_hold(const Universe& u, const std::vector<Cause>& causes, std::size_t left_out) {
  const auto all = u.all();
  for (std::uint32_t bits = 0; bits < (1U << all.size()); ++bits) {
    std::set<PackageId> set;
    std::set<std::string> names;
    bool one_version = true;
    for (std::size_t i = 0; i < all.size(); ++i)
      if ((bits >> i & 1U) != 0)
        set.insert(all[i]), one_version = one_version && names.insert(u.package(all[i]).name).second;
    if (!one_version) continue;
    bool good = true;
    for (std::size_t i = 0; i < causes.size() && good; ++i) good = i == left_out || holds(u, causes[i], set);
    if (good) return true;
  }
  return false;
}

}  // namespace

TEST(Solver, ARefusalIsMinimal) {
  std::mt19937 random(77);
  int checked = 0;
  while (checked < 150) {
    const Universe u = random_universe(random);
    if (u.size() > 9) continue;  // all subsets are tried
    const auto result = solve(u, random_request(u, random));
    const auto* refusal = std::get_if<Refusal>(&result);
    if (refusal == nullptr) continue;
    ++checked;
    ASSERT_FALSE(can_all_hold(u, refusal->causes, SIZE_MAX)) << "these statements do not clash\n" << test::text_of(u);
    for (std::size_t i = 0; i < refusal->causes.size(); ++i)
      ASSERT_TRUE(can_all_hold(u, refusal->causes, i)) << "not needed: " << refusal->causes[i].text(u) << "\n"
                                                       << test::text_of(u);
  }
}

TEST(Solver, EveryRemedyOfARandomRefusalHolds) {
  std::mt19937 random(99);
  int remedies = 0;
  for (int round = 0; round < 3000; ++round) {
    const Universe u = random_universe(random);
    Request request = random_request(u, random);
    request.upgrade_all = false;
    const auto result = solve(u, request);
    const auto* refusal = std::get_if<Refusal>(&result);
    if (refusal == nullptr) continue;
    for (const plan::Remedy& remedy : plan::remedies_for(u, request, *refusal)) {
      ++remedies;
      ASSERT_TRUE(acceptable(u, remedy.request, remedy.selection.chosen)) << remedy.command() << "\n"
                                                                          << test::text_of(u);
    }
  }
  std::printf("%d remedies\n", remedies);
  EXPECT_GT(remedies, 100);
}

TEST(Solver, TheSameInputGivesTheSameAnswer) {
  std::mt19937 random(5);
  for (int round = 0; round < 200; ++round) {
    const Universe u = random_universe(random);
    const Request request = random_request(u, random);
    EXPECT_EQ(answer(u, request), answer(universe(test::text_of(u)), request));
  }
}

}  // namespace hambrel::solve
