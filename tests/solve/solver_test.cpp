#include "solve/solver.h"

#include <gtest/gtest.h>

#include <random>

#include "plan/plan.h"
#include "plan/remedies.h"
#include "solve/random_question.h"
#include "solve/reference.h"
#include "solve/universe_text.h"

namespace hambrel::solve {

using test::Question;
using test::random_question;
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
            "you asked to remove lib\ndesk 1 is installed and wanted\ndesk 1 requires lib: lib 1\n");
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
            "a was asked for\na 1 requires nowhere >= 2, which is not available\n");
}

TEST(Solver, ManyVersionsOfOneNameExcludeEachOther) {
  std::string text = "x 1\n    requires many\n";
  for (int i = 1; i <= 12; ++i) text += "many " + std::to_string(i) + "\n";
  const Universe u = universe(text);
  EXPECT_EQ(answer(u, install(u, {"x"})), "many 12, x 1");
}

namespace {

// ---- against a second reading of the rules

/// What the solver got wrong, or nothing. `tally`: questions that were solved and refused.
std::string mistake(const Question& question, std::pair<int, int>* tally = nullptr) {
  const Universe u = universe(join(question.universe, "\n"));
  const Request asked = test::request(u, question.request);
  const test::Reference reference(u, asked);
  const auto result = solve(u, asked);
  const auto* selection = std::get_if<Selection>(&result);
  if (tally != nullptr) ++(selection != nullptr ? tally->first : tally->second);
  if (selection == nullptr) {
    if (reference.any_acceptable()) return "it is refused, but can be done";
    return std::get<Refusal>(result).causes.empty() ? "it is refused without a cause" : "";
  }
  if (!reference.acceptable(selection->chosen)) return "the selection breaks a rule";
  std::vector<Level> levels;
  for (const LevelValue& one : selection->levels) levels.push_back(one.level);
  const auto best = reference.best(levels);
  for (const LevelValue& one : selection->levels)
    if (one.value != best->values.at(one.level) || !one.proved)
      return std::string(text_of(one.level)) + ": " + std::to_string(one.value) + " instead of " +
             std::to_string(best->values.at(one.level));
  if (selection->chosen != best->chosen) return "of equals not the first was taken";
  const auto problems = plan::make_checked_plan(u, asked, *selection).problems;
  return problems.empty() ? "" : "the plan's checker says: " + problems.front();
}

/// Leaves out lines as long as something stays wrong.
Question smallest(Question question) {
  for (bool again = true; again;) {
    again = false;
    for (auto* lines : {&question.universe, &question.request})
      for (std::size_t i = 0; i < lines->size(); ++i) {
        const std::vector<std::string> before = *lines;
        auto end = lines->begin() + static_cast<std::ptrdiff_t>(i) + 1;
        if ((*lines)[i][0] != ' ' && lines == &question.universe)
          while (end != lines->end() && (*end)[0] == ' ') ++end;  // a package goes with its relations
        lines->erase(lines->begin() + static_cast<std::ptrdiff_t>(i), end);
        if (!mistake(question).empty()) {
          again = true;
          --i;
        } else
          *lines = before;
      }
  }
  return question;
}

}  // namespace

TEST(Solver, FindsTheOptimumOfTwentyThousandSmallUniversesLevelByLevel) {
  std::mt19937 random(42);
  std::pair<int, int> tally;
  for (int round = 0; round < 20000; ++round) {
    const Question question = random_question(random);
    if (mistake(question, &tally).empty()) continue;
    const Question small = smallest(question);
    FAIL() << "round " << round << ": " << mistake(small) << "\n" << small.text();
  }
  std::printf("%d solved, %d refused\n", tally.first, tally.second);
  EXPECT_GT(tally.first, 5000);
  EXPECT_GT(tally.second, 1000);
}

namespace {

Universe random_universe(std::mt19937& random, Request& asked) {
  const Question question = random_question(random);
  Universe u = universe(join(question.universe, "\n"));
  asked = test::request(u, question.request);
  return universe(join(question.universe, "\n"));
}

/// Is a statement of a refusal true of a set of packages?
bool holds(const Universe& u, const Cause& cause, const std::set<PackageId>& set) {
  const auto any = [&](Ids ids) {
    return std::any_of(ids.begin(), ids.end(), [&](PackageId id) { return set.contains(id); });
  };
  switch (cause.kind) {
    case Cause::Kind::Asked: return any(cause.others);
    case Cause::Kind::AskedToRemove: return !any(u.versions_of(cause.name));
    case Cause::Kind::Held:
    case Cause::Kind::LeftAlone: return any(cause.packages);
    case Cause::Kind::Wanted: {
      if (any(u.versions_of(cause.name))) return true;
      for (const PackageId id : set)
        for (const Constraint& c : u.package(id).replaces)
          if (c.name == cause.name && c.allows(u.package(cause.packages.front()).version)) return true;
      return false;
    }
    case Cause::Kind::Essential: {
      const Version& version = u.package(cause.packages.front()).version;
      return std::any_of(set.begin(), set.end(),
                         [&](PackageId id) { return u.name(id) == cause.name && !(u.package(id).version < version); });
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
    std::map<std::string, std::uint32_t> names;
    bool few_versions = true;
    for (std::size_t i = 0; i < all.size(); ++i)
      if ((bits >> i & 1U) != 0) {
        set.insert(all[i]);
        few_versions = few_versions && ++names[u.package(all[i]).name] <= u.parallel(all[i]);
      }
    if (!few_versions ||
        std::any_of(set.begin(), set.end(), [&](PackageId id) { return !u.is_installed(id) && !u.offered(id); }))
      continue;
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
    Request asked;
    const Universe u = random_universe(random, asked);
    if (u.size() > 9) continue;  // all subsets are tried
    const auto result = solve(u, asked);
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
    Request request;
    const Universe u = random_universe(random, request);
    const auto result = solve(u, request);
    const auto* refusal = std::get_if<Refusal>(&result);
    if (refusal == nullptr) continue;
    for (const plan::Remedy& remedy : plan::remedies_for(u, request, *refusal).remedies) {
      ++remedies;
      ASSERT_TRUE(test::Reference(u, remedy.request).acceptable(remedy.selection.chosen)) << remedy.command() << "\n"
                                                                                          << test::text_of(u);
      ASSERT_EQ(remedy.request.channels, request.channels) << "its command follows no other channel";
      if (remedy.kind == plan::Remedy::Kind::EnableRepository) continue;  // of another universe
      const auto asked = solve(u, remedy.request);
      ASSERT_EQ(remedy.selection.chosen, std::get<Selection>(asked).chosen) << remedy.command() << "\n"
                                                                            << test::text_of(u);
    }
  }
  std::printf("%d remedies\n", remedies);
  EXPECT_GT(remedies, 100);
}

TEST(Solver, TheSameInputGivesTheSameAnswer) {
  std::mt19937 random(5);
  for (int round = 0; round < 200; ++round) {
    const Question question = random_question(random);
    const auto once = [&] {
      const Universe u = universe(join(question.universe, "\n"));
      return answer(u, test::request(u, question.request));
    };
    EXPECT_EQ(once(), once());
  }
}

}  // namespace hambrel::solve
